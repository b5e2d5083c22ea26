"""Evidence: runs as signed documents, kept and handed out."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable

from portero.core.nouns.evidence import (
    EVIDENCE_FORMAT,
    Evidence,
    EvidenceMachine,
    EvidenceSeen,
    EvidenceSummary,
    NeverObserved,
)
from portero.core.nouns.finding import DeviceName
from portero.core.nouns.observation import Observation
from portero.core.nouns.page import Page
from portero.core.sentences import runs as words
from portero.formats.estate_document import written_estate
from portero.formats.evidence import fingerprint, open_evidence, sign_evidence
from portero.formats.manifests import public_text_of
from portero.service.estate import EstateKeeper
from portero.service.fleet import FleetKeeper
from portero.service.problems import Refusal
from portero.service.runs import Runs
from portero.store import devices, evidence, observations, runs
from portero.store.database import Store
from portero.store.moments import moment


class EvidenceKeeper:
    """Signs runs, and keeps what it signed."""

    def __init__(
        self,
        key: str,
        service_key: str,
        store: Store,
        runs: Runs,
        estate: EstateKeeper,
        fleet: FleetKeeper,
        clock: Callable[[], float],
    ) -> None:
        self._key, self._store, self._runs, self._estate = key, store, runs, estate
        self._fleet, self._now = fleet, clock
        self.public_key = public_text_of(key)
        """By which it is checked, as PEM."""
        self._service = fingerprint(service_key)

    def create(self, run: int, by: str) -> EvidenceSummary:
        """Sign a run as it was, with what its machines hold. Refusal."""
        told = self._runs.get(run)
        if told.state != "done":
            raise Refusal("invalid", f"Run {run} has not come to an end; there is nothing to be evidence of.")
        with self._store.reading() as connection:
            seen = observations.seen_in(connection, run)
        named = self._runs.all_devices(run)
        at = moment(self._now())
        document = Evidence(
            portero_evidence=EVIDENCE_FORMAT,
            estate=self._estate.snapshot.estate.settings.name or "unnamed",
            service=self._service,
            key=fingerprint(self.public_key),
            made_at=at,
            made_by=by,
            policy=self._policy_of(told.revision),
            run=runs.summary_of(told),
            results=told.results,
            machines=tuple(self._machines(named, seen if told.kind == "observed" else None)),
            seen=tuple(map(_seen, seen)),
            unreached=_unreached(named, seen) if told.kind == "observed" else (),
        )
        token = sign_evidence(document, self._key)
        summary = EvidenceSummary(
            id=0,
            run=run,
            kind=told.kind,
            revision=told.revision,
            made_at=at,
            made_by=by,
            sha256=hashlib.sha256(token.encode()).hexdigest(),
            sentence=told.sentence,
        )
        with self._store.writing() as connection:
            return evidence.add_evidence(connection, summary, token)

    def file(self, id: int) -> str:
        """A signed file. Refusal."""
        with self._store.reading() as connection:
            found = evidence.file_of(connection, id)
        if found is None:
            raise Refusal("not-found", f"There is no evidence {id} (any more).")
        return found

    def opened(self, id: str | int) -> Evidence:
        """What a file says. Refusal."""
        return open_evidence(self.file(int(id)), self.public_key)

    def page(self, cursor: str | None, limit: int) -> Page[EvidenceSummary]:
        """A page of what is kept, the newest first."""
        with self._store.reading() as connection:
            return evidence.list_evidence(connection, cursor, limit)

    def never_observed(self, after: str, limit: int) -> NeverObserved:
        """How many machines have tried some probe, and those that never have, behind a hostname."""
        with self._store.reading() as connection:
            machines, observed, names = observations.never_observed(connection, after, limit + 1)
        more = len(names) > limit
        return NeverObserved(
            machines=machines,
            observed=observed,
            items=tuple(names[:limit]),
            next=names[limit - 1] if more else None,
            total=machines - observed,
            sentence=words.never_observed(machines, observed),
        )

    def _policy_of(self, revision: int) -> str:
        """The digest of the estate document at a revision."""
        written = json.dumps(written_estate(self._estate.at(revision)), sort_keys=True, separators=(",", ":"))
        return hashlib.sha256(written.encode()).hexdigest()

    def _machines(self, named: Iterable[DeviceName], seen: Iterable[Observation] | None) -> Iterable[EvidenceMachine]:
        """The machines of a run; where they were asked, with what they said that they ruled by."""
        told = {one.device: one.bundle for one in seen or ()}
        with self._store.reading() as connection:
            held = devices.applied_bundles(connection)
        for name in named:
            answered = name.id in told if seen is not None else None
            yield EvidenceMachine(
                id=name.id,
                hostname=name.hostname,
                groups=self._fleet.members.groups_of(name.id),
                bundle=told.get(name.id) or held.get(name.id),
                answered=answered,
            )


def _seen(one: Observation) -> EvidenceSeen:
    return EvidenceSeen(
        hostname=one.hostname,
        set=one.set,
        number=one.number,
        at=one.at,
        expected=one.expected,
        predicted=one.predicted,
        observed=one.seen.verdict,
        layer=one.seen.layer,
        agrees=one.agrees,
        sentence=one.sentence,
    )


def _unreached(named: Iterable[DeviceName], seen: Iterable[Observation]) -> tuple[str, ...]:
    answered = {one.device for one in seen}
    return tuple(sorted(name.hostname for name in named if name.id not in answered))
