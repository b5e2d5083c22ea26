"""Proofs of changes: probes that a change carries are tried before it, and again until they come out everywhere."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Callable, Sequence

from portero.core.insight.predicting import numbered, predict
from portero.core.insight.proofs import begun, carried, tried_again
from portero.core.insight.quick_words import Known, QuickWordProblem
from portero.core.nouns.estate import Estate
from portero.core.nouns.probe_set import ProbeSet
from portero.core.nouns.proof import Proof
from portero.core.nouns.run import ProbeResult
from portero.core.wording import as_sentence
from portero.service.live import Live
from portero.service.problems import Refusal, field_error
from portero.service.standings import Standings
from portero.service.state import Current, Snapshot
from portero.store import proofs
from portero.store.database import Store
from portero.store.moments import moment

LEAST_SECONDS, SHARE = 3.0, 20.0
"""Between trying again lie so many seconds, and so many times what the last time took."""


class Proving:
    """Carries the proofs of changes out, and keeps them with their revisions."""

    def __init__(
        self,
        store: Store,
        current: Current,
        standings: Standings,
        known: Callable[[Estate], Known],
        live: Live,
        clock: Callable[[], float],
    ) -> None:
        self._store, self._current, self._standings, self._known = store, current, standings, known
        self._live, self._now = live, clock
        self._again_at = 0.0

    def carrying(self, words: Sequence[str]) -> CarriedProbes:
        """The probes that a change carries, by the words for them."""
        return CarriedProbes(self, words)

    def sets(self, words: Sequence[str], after: Estate) -> tuple[ProbeSet, ...]:
        """The probes that words mean under the estate as it will be. Refusal."""
        try:
            return carried(words, self._known(after))
        except QuickWordProblem as problem:
            said = str(problem)
            raise Refusal("invalid", as_sentence(said), errors=[field_error(["prove"], said)]) from problem

    def tried(self, sets: Sequence[ProbeSet]) -> list[ProbeResult]:
        """What the probes come to now."""
        probes = numbered(sets)
        standings = self._standings.alike(self._current.snapshot.estate, [one.probe for one in probes])
        return [tried.result for tried in predict(probes, standings)]

    def begun(self, sets: Sequence[ProbeSet], after: Snapshot) -> Proof:
        """The proof of a change that is about to be made."""
        return begun(after.revision, self.tried(sets), moment(self._now()))

    def let_time_pass(self) -> None:
        """Try the probes of changes again that did not come out everywhere yet."""
        if time.monotonic() < self._again_at:
            return
        with self._store.reading() as connection:
            waiting = proofs.waiting_proofs(connection)
        began = time.monotonic()
        for proof, sets in waiting:
            told = tried_again(proof, self.tried(sets), moment(self._now()))
            with self._store.writing() as connection:
                proofs.write_proof(connection, told)
        took = time.monotonic() - began
        self._again_at = time.monotonic() + max(LEAST_SECONDS, SHARE * took)
        if waiting:
            self._live.tell("revision")


class CarriedProbes:
    """What a change does with the probes that it carries."""

    def __init__(self, proving: Proving, words: Sequence[str]) -> None:
        self._proving, self._words = proving, words

    def sets(self, after: Estate) -> Sequence[ProbeSet]:
        """The probes, under the estate as it will be. Refusal."""
        return self._proving.sets(self._words, after)

    def begin(self, after: Snapshot) -> Callable[[sqlite3.Connection], None]:
        """What is written with the change: its proof, as far as it is before it."""
        sets = self.sets(after.estate)
        proof = self._proving.begun(sets, after)
        return lambda connection: proofs.add_proof(connection, proof, sets)
