"""Occasions as bits: at which moment, in which place, before or after a restart, and who."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import NamedTuple

import msgspec

from portero.core.insight.effects.circumstances import (
    NOBODY,
    ON_SITE,
    Calendar,
    Circumstance,
    Moment,
    Person,
    told_apart,
)
from portero.core.matching.windows import Windows
from portero.core.resolving.bundles import BundleAssignment
from portero.core.resolving.situations import (
    EVERYONE,
    OFF_SITE,
    THEIR_GROUP,
    THIS_PERSON,
    aside_by_itself,
)

_WAYS = [(place, restarted) for place in (OFF_SITE, ON_SITE) for restarted in (False, True)]


class Everybody:
    """People as bits, the first of them nobody in particular."""

    def __init__(self, people: Sequence[Person]) -> None:
        self.number = len(people)
        self._users: dict[str, int] = {}
        self._groups: dict[str, int] = {}
        for place, person in enumerate(people):
            if person.user is not None:
                self._users[person.user] = self._users.get(person.user, 0) | 1 << place
            for group in person.user_groups:
                self._groups[group] = self._groups.get(group, 0) | 1 << place

    def rungs(self, assignment: BundleAssignment) -> Iterator[tuple[int, int]]:
        """Whom an assignment is for, by its place on the people rung."""
        if not assignment.names_people:
            yield EVERYONE, (1 << self.number) - 1
            return
        own = _any(self._users.get(user, 0) for user in assignment.users)
        if own:
            yield THIS_PERSON, own
        if others := _any(self._groups.get(key, 0) for key in assignment.user_groups) & ~own:
            yield THEIR_GROUP, others


class Occasions:
    """The occasions that differ by some schedules and by what has begun or ended, on machines in a zone."""

    def __init__(self, moments: Sequence[Moment], everybody: Everybody, zone: str | None) -> None:
        self._moments, self._everybody, self._zone = moments, everybody, zone
        self.ever = (1 << len(moments) * len(_WAYS) * everybody.number) - 1
        self._known: dict[str, list[tuple[int, int]]] = {}
        self._at: dict[float, int] = {}

    def of(self, assignment: BundleAssignment) -> list[tuple[int, int]]:
        """When an assignment counts, by its place on the people rung."""
        known = self._known.get(assignment.key)
        if known is None:
            # whom it is for is told apart by the people themselves
            for_all = msgspec.structs.replace(assignment, users=(), user_groups=())
            spread = self._spread(
                self._counts(for_all, moment, place, restarted)
                for moment in self._moments
                for place, restarted in _WAYS
            )
            known = [(rung, spread * people) for rung, people in self._everybody.rungs(assignment)]
            known = self._known[assignment.key] = [(rung, when) for rung, when in known if when]
        return known

    def _counts(self, assignment: BundleAssignment, moment: Moment, place: str, restarted: bool) -> bool:
        if assignment.schedule is not None and assignment.schedule not in moment.opened:
            return False
        situation = Circumstance(moment, NOBODY, place, restarted).situation(self._zone, (assignment.key,))
        return aside_by_itself(assignment, situation, moment.at.timestamp()) is None

    def before(self, until: float) -> int:
        """The occasions before a moment."""
        known = self._at.get(until)
        if known is None:
            known = self._at[until] = self.at_which(lambda seconds: seconds < until)
        return known

    def at_which(self, test: Callable[[float], bool]) -> int:
        """The occasions at whose moments, in seconds, something is so."""
        found = (test(moment.at.timestamp()) for moment in self._moments)
        return self._spread(one for one in found for _ in _WAYS) * ((1 << self._everybody.number) - 1)

    def _spread(self, bits: Iterable[bool]) -> int:
        """Bits, each so far from the next that all people have room between them."""
        return _any(1 << place * self._everybody.number for place, bit in enumerate(bits) if bit)


class Hangs(NamedTuple):
    """What it hangs on which of some assignments count: schedules, instants in seconds, and whom they name."""

    schedules: frozenset[str] = frozenset()
    instants: frozenset[float] = frozenset()
    users: frozenset[str] = frozenset()
    user_groups: frozenset[str] = frozenset()

    @classmethod
    def of(cls, assignments: Iterable[BundleAssignment], ends: Iterable[float]) -> Hangs:
        """That of some assignments, and of what is over at some instants."""
        several = list(assignments)
        begins = {at for one in several for at in (one.starts, one.ends) if at is not None}
        return cls(
            frozenset(one.schedule for one in several if one.schedule),
            frozenset(begins.union(ends)),
            frozenset(user for one in several for user in one.users),
            frozenset(key for one in several for key in one.user_groups),
        )

    def beside(self, other: Hangs) -> Hangs:
        """What both hang on."""
        return Hangs(
            self.schedules | other.schedules,
            self.instants | other.instants,
            self.users | other.users,
            self.user_groups | other.user_groups,
        )


class Timeline:
    """Finds the occasions that differ by what something hangs on."""

    def __init__(self, windows: Mapping[str, Windows], people: Sequence[Person], now: datetime) -> None:
        self._windows, self._people, self._now = windows, people, now
        self._calendars: dict[tuple[frozenset[str], frozenset[float]], Calendar] = {}
        self._apart: dict[tuple[frozenset[str], frozenset[str]], Everybody] = {}
        self._known: dict[tuple[object, ...], Occasions] = {}

    def occasions(self, hangs: Hangs, zone: str | None) -> Occasions:
        """Those that differ on machines in a zone."""
        known = self._known.get((hangs, zone))
        if known is None:
            moments = self._calendar(hangs.schedules, hangs.instants).moments(zone)
            everybody = self._everybody(hangs.users, hangs.user_groups)
            known = self._known[hangs, zone] = Occasions(moments, everybody, zone)
        return known

    def _calendar(self, schedules: frozenset[str], instants: frozenset[float]) -> Calendar:
        known = self._calendars.get((schedules, instants))
        if known is None:
            windows = [(name, self._windows[name]) for name in sorted(schedules)]
            at = [datetime.fromtimestamp(instant, UTC) for instant in instants]
            known = self._calendars[schedules, instants] = Calendar(windows, at, self._now)
        return known

    def _everybody(self, users: frozenset[str], groups: frozenset[str]) -> Everybody:
        """One of the people for each way in which these tell them apart."""
        known = self._apart.get((users, groups))
        if known is None:
            known = self._apart[users, groups] = Everybody(told_apart(self._people, users, groups))
        return known


def _any(masks: Iterable[int]) -> int:
    found = 0
    for mask in masks:
        found |= mask
    return found
