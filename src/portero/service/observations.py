"""What machines saw of probes, kept and looked at: by run, by machine, by probe set, by attempt."""

from __future__ import annotations

import zstandard

from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.observation import MOST_ORDERED, Observation, ObservedProbe
from portero.core.nouns.page import Page
from portero.core.nouns.probe_set import Probe, ProbeSet
from portero.core.nouns.urls import BadUrl, parse_visit
from portero.core.nouns.verdict import ObservedVerdict
from portero.core.sentences import observing as words
from portero.service.fleet import FleetKeeper
from portero.service.problems import Refusal
from portero.service.runs import Runs
from portero.store import observations
from portero.store.database import Store
from portero.store.moments import moment


class Observations:
    """Tells what machines saw when they last tried."""

    def __init__(self, store: Store, runs: Runs, fleet: FleetKeeper) -> None:
        self._store, self._runs, self._fleet = store, runs, fleet

    def picture(self, run: int, device: str, set: str, number: int) -> bytes:
        """The picture of what a machine saw, as PNG. Refusal where there is none."""
        found = self._fleet.device(device)
        with self._store.reading() as connection:
            png = observations.picture_of(connection, run, found.id, set, number)
        if png is None:
            raise Refusal("not-found", f"There is no picture of probe {number} of {set[:64]} on {found.hostname}.")
        return png

    def of_device(self, name: str) -> list[Observation]:
        """What a machine saw last of each probe, the newest first. Refusal."""
        found = self._fleet.device(name)
        with self._store.reading() as connection:
            return observations.newest_of(connection, found.id, MOST_ORDERED)

    def of_set(self, one: ProbeSet) -> list[ObservedProbe]:
        """What the probes of a set came to on the machines that have tried them, as they are written now."""
        with self._store.reading() as connection:
            tallies = observations.tallies(connection, one.key)
        found = {(tally.number, tally.tried, tally.how, tally.expected): tally for tally in tallies}
        told = []
        for number, probe in enumerate(one.probes, start=1):
            last = found.get((number, probe.tried, probe.how, probe.expect.value))
            if last is not None:
                counts = {"machines": last.machines, "passed": last.passed, "disagreeing": last.disagreeing}
                told.append(ObservedProbe(number=number, **counts, at=moment(last.at), sentence=words.tally(**counts)))
        return told

    def last_of(self, device: str, attempt: Attempt) -> ObservedVerdict | None:
        """What a machine, by its id, did when it last tried just this."""
        wanted = _tried(attempt)
        with self._store.reading() as connection:
            seen = observations.newest_of(connection, device, MOST_ORDERED)
        for one in seen:
            if one.seen.verdict is not None and _normal(one.tried) == wanted:
                told = {"verdict": one.seen.verdict, "layer": one.seen.layer, "browser": one.seen.browser}
                return ObservedVerdict(**told, at=one.at, run=one.run, agrees=one.agrees)
        return None

    def case(self, run: int, device: str, set: str, number: int) -> bytes:
        """The case of what a machine saw otherwise than predicted, as a file. Refusal where there is none."""
        found = self._fleet.device(device)
        with self._store.reading() as connection:
            packed = observations.case_of(connection, run, found.id, set, number)
        if packed is None:
            said = f"There is no case of probe {number} of {set[:64]} on {found.hostname} in run {run}."
            raise Refusal("not-found", f"{said} One is kept where something else was seen than predicted.")
        return zstandard.decompress(packed)

    def page(
        self, run: int, set: str | None, number: int | None, agrees: bool | None, cursor: str | None, limit: int
    ) -> Page[Observation]:
        """A page of what machines saw in a run. Refusal."""
        self._runs.get(run)
        with self._store.reading() as connection:
            return observations.list_observations(connection, run, set, number, agrees, cursor, limit)


def _tried(attempt: Attempt) -> str:
    if attempt.url is not None:
        return _normal(attempt.url)
    return Probe(start=attempt.start, expect=Verdict.ALLOW).tried


def _normal(tried: str) -> str:
    """A URL as it is understood; what is none as it stands."""
    try:
        return parse_visit(tried).url
    except BadUrl:
        return tried
