"""What is to be settled, and what somebody has accepted of it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

from portero.core.insight.findings.finding import Found
from portero.core.insight.observing import disagreement_id, disagreements
from portero.core.matching.members import Member
from portero.core.nouns.finding import SEVERITIES, Acceptance, Finding, Findings, NewAcceptance
from portero.core.nouns.observation import Observation
from portero.service.foresight import Foresight
from portero.service.live import Live
from portero.service.problems import Refusal, field_error
from portero.service.roster import Roster
from portero.service.state import Current
from portero.store import findings as accepting
from portero.store import observations
from portero.store.database import Store
from portero.store.moments import moment

MOST_DISAGREEING, SINCE_SECONDS = 1_000, 30 * 86_400.0
"""So many observations that disagree are told of, and so far back."""


class FindingsKeeper:
    """Finds, and keeps acceptances."""

    def __init__(
        self,
        store: Store,
        current: Current,
        roster: Roster,
        foresight: Foresight,
        live: Live,
        clock: Callable[[], float],
    ) -> None:
        self._store, self._current, self._roster, self._foresight = store, current, roster, foresight
        self._live, self._now = live, clock

    def all(self) -> Findings:
        """What is to be settled, with what somebody has accepted marked."""
        snapshot = self._current.snapshot
        found = self._foresight.findings(snapshot.estate, snapshot.revision)
        with self._store.reading() as connection:
            accepted = accepting.accepted(connection, self._now())
        items = tuple(
            item.model_copy(update={"accepted": accepted[item.id]}) if item.id in accepted else item
            for item in (*disagreements(self._disagreeing()), *found.items)
        )
        counts = Counter(item.severity for item in items if item.is_open)
        return Findings.model_construct(
            revision=snapshot.revision,
            items=items,
            total=len(items),
            open={severity: counts[severity] for severity in SEVERITIES},
            kinds=dict(Counter(item.kind for item in items if item.is_open)),
            accepted=sum(not item.is_open for item in items),
        )

    def get(self, id: str) -> Finding:
        """One of them. Refusal."""
        for item in self.all().items:
            if item.id == id:
                return item
        raise no_finding(id)

    def with_devices(self) -> Found:
        """What is to be settled, with all devices that each finding is about."""
        snapshot = self._current.snapshot
        found, seen = self._foresight.findings(snapshot.estate, snapshot.revision), self._disagreeing()
        devices: dict[str, list[Member]] = {}
        for one in seen:
            if (member := self._roster.fleet.get(one.device)) is not None:
                devices.setdefault(disagreement_id(one.set, one.number), []).append(member)
        return Found((*disagreements(seen), *found.items), {**found.devices, **devices})

    def _disagreeing(self) -> list[Observation]:
        """What machines saw of late otherwise than predicted, of probes that there still are."""
        numbers = {one.key: len(one.probes) for one in self._current.snapshot.estate.probe_sets}
        with self._store.reading() as connection:
            seen = observations.disagreeing(connection, self._now() - SINCE_SECONDS, MOST_DISAGREEING)
        return [one for one in seen if one.number <= numbers.get(one.set, 0)]

    def accept(self, id: str, new: NewAcceptance, by: str) -> Finding:
        """Say why one may stay as it is, and until when. Refusal."""
        now = moment(self._now())
        if new.until <= now:
            raise Refusal(
                "invalid",
                "The end of the acceptance has passed; give a later one.",
                errors=[field_error(["until"], "past")],
            )
        self.get(id)
        with self._store.writing() as connection:
            accepting.accept(connection, id, Acceptance(by=by, at=now, reason=new.reason, until=new.until))
        self._live.tell("finding")
        return self.get(id)

    def reopen(self, id: str) -> None:
        """Open one again that somebody has accepted. Refusal where nobody has."""
        with self._store.writing() as connection:
            if not accepting.take_back(connection, id):
                raise Refusal("not-found", f"Nobody has accepted a finding “{id[:200]}”.")
        self._live.tell("finding")


def no_finding(id: str) -> Refusal:
    """There is none of that id."""
    return Refusal("not-found", f"There is no finding “{id[:200]}” (any more): what it was about may be settled.")
