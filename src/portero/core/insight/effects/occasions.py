"""Occasions as bits: at which moment, in which place, before or after a restart, and who."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import UTC, datetime
from functools import cached_property, reduce
from itertools import chain, product
from operator import or_
from typing import NamedTuple

import msgspec

from portero.core.insight.effects.circumstances import (
    NOBODY,
    ON_SITE,
    Calendar,
    Circumstance,
    Moment,
    Person,
    people_of,
    told_apart,
)
from portero.core.matching.windows import Windows
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.nouns.schedule import Schedule
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
        self.number, self._people = len(people), people
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
        own = any_of(self._users.get(user, 0) for user in assignment.users)
        if own:
            yield THIS_PERSON, own
        if others := any_of(self._groups.get(key, 0) for key in assignment.user_groups) & ~own:
            yield THEIR_GROUP, others

    def of(self, people: int) -> Iterator[Person]:
        """The people of some bits."""
        return (person for place, person in enumerate(self._people) if people >> place & 1)


class Occasions:
    """The occasions that differ by some schedules and by what has begun or ended, on machines in some zones."""

    def __init__(self, moments: Sequence[Moment], everybody: Everybody) -> None:
        self._moments, self._everybody = moments, everybody
        self.ever = (1 << len(moments) * len(_WAYS) * everybody.number) - 1
        self.on_site = self._spread(place == ON_SITE for _ in moments for place, _ in _WAYS) * self._everyone
        self._known: dict[tuple[object, ...], tuple[BundleAssignment, list[tuple[int, int]]]] = {}
        self._alike: dict[tuple[object, ...], int] = {}
        self._at: dict[float, int] = {}

    @property
    def _everyone(self) -> int:
        return (1 << self._everybody.number) - 1

    def of(self, assignment: BundleAssignment, windows: Windows | None, zone: str | None) -> list[tuple[int, int]]:
        """When an assignment counts on machines in a zone, by its place on the people rung; `windows` are those of its
        schedule.
        """
        zone = zone if windows is not None and windows.follows_device else None
        key = (id(assignment), windows, zone)
        known = self._known.get(key)
        if known is None:
            spread = self._whoever(assignment, windows, zone)
            whens = [(rung, spread * people) for rung, people in self._everybody.rungs(assignment)]
            # kept with the assignment itself: nothing else has its identity
            known = self._known[key] = (assignment, [(rung, when) for rung, when in whens if when])
        return known[1]

    def _whoever(self, assignment: BundleAssignment, windows: Windows | None, zone: str | None) -> int:
        """When it counts for those whom it is for, one bit for all people."""
        lasting = (assignment.state, assignment.until_restart, assignment.starts, assignment.ends, assignment.place)
        alike = (windows, zone, lasting)
        known = self._alike.get(alike)
        if known is None:
            # whom it is for is told apart by the people themselves
            for_all = msgspec.structs.replace(assignment, users=(), user_groups=())
            counting = chain.from_iterable(_counts(for_all, windows, zone, one) for one in self._moments)
            known = self._alike[alike] = self._spread(counting)
        return known

    def before(self, until: float) -> int:
        """The occasions before a moment."""
        known = self._at.get(until)
        if known is None:
            known = self._at[until] = self.at_which(lambda seconds: seconds < until)
        return known

    def at_which(self, test: Callable[[float], bool]) -> int:
        """The occasions at whose moments, in seconds, something is so."""
        found = (test(moment.at.timestamp()) for moment in self._moments)
        return self._spread(one for one in found for _ in _WAYS) * self._everyone

    def _spread(self, bits: Iterable[bool]) -> int:
        """Bits, each so far from the next that all people have room between them."""
        return any_of(1 << place * self._everybody.number for place, bit in enumerate(bits) if bit)

    # --- told apart again ---

    def _blocks(self, when: int) -> Iterator[tuple[Moment, tuple[str, bool], int]]:
        """For each moment and way that some occasions have the people that they have."""
        number, everyone = self._everybody.number, self._everyone
        for at, (moment, way) in enumerate(product(self._moments, _WAYS)):
            if people := when >> at * number & everyone:
                yield moment, way, people

    def lines(self, when: int) -> Lines:
        """What some occasions have along each line by which occasions differ."""
        lines, people = Lines(set(), set(), set(), []), 0
        for moment, (place, restarted), own in self._blocks(when):
            people |= own
            lines.places.add(place)
            lines.restarted.add(restarted)
            if not lines.moments or lines.moments[-1] is not moment:
                lines.moments.append(moment)
        lines.people.update(self._everybody.of(people))
        return lines

    @cached_property
    def all_lines(self) -> Lines:
        """What all occasions have along each line."""
        return self.lines(self.ever)

    def plainest(self, when: int) -> Circumstance:
        """The one of some occasions that shows them best."""
        moment, (place, restarted), people = min(self._blocks(when), key=_plainness)
        return Circumstance(moment, next(self._everybody.of(people)), place, restarted)


def _counts(assignment: BundleAssignment, windows: Windows | None, zone: str | None, moment: Moment) -> Iterator[bool]:
    is_open = windows is None or windows.is_open(moment.at, zone)
    for place, restarted in _WAYS:
        situation = Circumstance(moment, NOBODY, place, restarted).situation(zone, (assignment.key,))
        yield is_open and aside_by_itself(assignment, situation, moment.at.timestamp()) is None


def _plainness(block: tuple[Moment, tuple[str, bool], int]) -> tuple[object, ...]:
    moment, (place, restarted), people = block
    # of the people the first
    return restarted, moment.since is not None, people & -people, place, moment.at


class Lines(NamedTuple):
    """What occasions have in who, where, whether it has restarted since, and at which moment, in order."""

    people: set[Person]
    places: set[str]
    restarted: set[bool]
    moments: list[Moment]


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

    def __init__(self, estates: Sequence[Estate], directory: Directory, now: datetime) -> None:
        """Under some states of the estate."""
        self._schedules: dict[str, list[Schedule]] = defaultdict(list)
        for schedule in chain.from_iterable(estate.schedules for estate in estates):
            if schedule not in self._schedules[schedule.key]:
                self._schedules[schedule.key].append(schedule)
        self._people, self._now = people_of(estates, directory), now
        self._calendars: dict[tuple[frozenset[str], frozenset[float]], Calendar] = {}
        self._apart: dict[tuple[frozenset[str], frozenset[str]], Everybody] = {}
        self._known: dict[tuple[object, ...], Occasions] = {}

    def occasions(self, hangs: Hangs, zones: Sequence[str | None]) -> Occasions:
        """Those that differ on machines in some zones."""
        known = self._known.get((hangs, zones))
        if known is None:
            moments = self._calendar(hangs.schedules, hangs.instants).moments(*zones)
            everybody = self._everybody(hangs.users, hangs.user_groups)
            known = self._known[hangs, zones] = Occasions(moments, everybody)
        return known

    def _calendar(self, schedules: frozenset[str], instants: frozenset[float]) -> Calendar:
        known = self._calendars.get((schedules, instants))
        if known is None:
            windows = [(name, Windows.of(one)) for name in sorted(schedules) for one in self._schedules[name]]
            at = [datetime.fromtimestamp(instant, UTC) for instant in instants]
            known = self._calendars[schedules, instants] = Calendar(windows, at, self._now)
        return known

    def _everybody(self, users: frozenset[str], groups: frozenset[str]) -> Everybody:
        """One of the people for each way in which these tell them apart."""
        known = self._apart.get((users, groups))
        if known is None:
            known = self._apart[users, groups] = Everybody(told_apart(self._people, users, groups))
        return known


def any_of(masks: Iterable[int]) -> int:
    """What is in any of some masks."""
    return reduce(or_, masks, 0)


def together(pieces: Iterable[tuple[int, int]]) -> dict[int, int]:
    """Where something is so, by when it is so there: of pieces that may be in the same places at other times."""
    found: dict[int, int] = {}
    for when, where in pieces:
        rest = where
        for then, there in list(found.items()):
            if both := there & rest:
                found[then] &= ~both
                found[then | when] = found.get(then | when, 0) | both
                rest &= ~both
        found[when] = found.get(when, 0) | rest
    return {when: where for when, where in found.items() if where}
