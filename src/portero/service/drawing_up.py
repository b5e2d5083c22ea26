"""Probe sets drawn up from what the service knows."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from portero.core import wording
from portero.core.insight import drawing_up
from portero.core.insight.effects.subjects import KnownSubjects
from portero.core.nouns.base import unknown_word
from portero.core.nouns.drawn import DrawnFrom
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import WHOLE_FLEET
from portero.core.nouns.probe_set import Probe, ProbeSet
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.service.feeds.holdings import Holdings
from portero.service.fleet import FleetKeeper
from portero.service.foresight import Foresight
from portero.service.problems import Refusal
from portero.service.roster import Roster
from portero.service.state import Current
from portero.store import activity, activity_counts, sightings
from portero.store.database import Store
from portero.store.moments import moment

DAY = 86_400.0


class DrawingUp:
    """Draws probe sets up. Nothing is kept: an administrator looks at them, edits and saves them."""

    def __init__(
        self,
        store: Store,
        current: Current,
        fleet: FleetKeeper,
        roster: Roster,
        foresight: Foresight,
        holdings: Holdings,
        clock: Callable[[], float],
    ) -> None:
        self._store, self._current, self._fleet, self._roster = store, current, fleet, roster
        self._foresight, self._holdings, self._now = foresight, holdings, clock

    def draw_up(self, asked: DrawnFrom) -> ProbeSet:
        """The set, as it could be saved. Refusal where it names what there is not, or there is nothing to try."""
        estate = self._current.snapshot.estate
        probes, to = self._probes(asked, estate), asked.to or (WHOLE_FLEET,)
        if asked.assignment is not None and not asked.to:
            to = next(one.to for one in estate.assignments if one.key == asked.assignment)
        if not probes:
            said = "Nothing of it can be tried by a visit or a start; write probes by hand."
            if asked.ruleset is None and asked.assignment is None:
                what = "visited" if asked.visited is not None else "stopped"
                said = f"No host was {what} there in the last {wording.counted(asked.days, 'day')}."
            raise Refusal("invalid", said)
        return ProbeSet(key=asked.key, name=asked.name, to=to, probes=tuple(probes))

    def _probes(self, asked: DrawnFrom, estate: Estate) -> list[Probe]:
        now = moment(self._now())
        since = self._now() - asked.days * DAY
        if asked.visited is not None:
            return drawing_up.staying_open(self._visited(since, asked.visited))
        if asked.stopped is not None:
            return drawing_up.staying_stopped(self._stopped(asked, since, asked.stopped))
        known = KnownSubjects.of((estate,), self._foresight.programs, self._roster.catalogue)
        index = self._holdings.index_in_force
        if asked.ruleset is not None:
            if asked.ruleset not in estate.ruleset_by_key:
                raise _unknown("ruleset", asked.ruleset, estate.ruleset_by_key)
            return drawing_up.of_ruleset(estate, estate.ruleset_by_key[asked.ruleset], known, index, now)
        assignments = {one.key: one for one in estate.assignments}
        if asked.assignment not in assignments:
            raise _unknown("assignment", asked.assignment or "", assignments)
        return drawing_up.of_assignment(estate, assignments[asked.assignment], known, index, now)

    def _visited(self, since: float, number: int) -> list[str]:
        """The hosts that were visited most, those left out that are there to be tried."""
        with self._store.reading() as connection:
            seen = sightings.hosts_since(connection, since)
        most = sorted(seen, key=lambda pair: (-pair[1].visits, pair[0]))
        return [host for host, _ in most if TAXONOMY.category_of_test_host(host) is None][:number]

    def _stopped(self, asked: DrawnFrom, since: float, number: int) -> list[str]:
        """The hosts that were stopped most, on a machine or anywhere."""
        with self._store.reading() as connection:
            if asked.device is not None:
                return activity.hosts_stopped_on(connection, self._fleet.device(asked.device).id, since, number)
            return activity_counts.hosts_stopped(connection, since, number)


def _unknown(what: str, word: str, known: Iterable[str]) -> Refusal:
    return Refusal("invalid", wording.as_sentence(unknown_word(what, word, known)))
