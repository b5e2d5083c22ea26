"""Every circumstance that counts: one witness for each distinct person, moment and place."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence, Set
from datetime import datetime, timedelta
from itertools import chain
from typing import NamedTuple

from portero.core.matching.windows import Windows
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.resolving.situations import OFF_SITE, Situation

AHEAD = timedelta(days=8)
"""How far beyond now, beyond each day off, and beyond each moment at which something begins or ends, windows are looked
at: they are the same every week but for days off.
"""
ON_SITE = "on-site"


class Moment(NamedTuple):
    """A moment, the schedules that are open at it, and since when (None for now) nothing else has begun or ended."""

    at: datetime
    opened: frozenset[str] = frozenset()
    since: datetime | None = None


class Person(NamedTuple):
    """Somebody. `words` is None for anybody whom no assignment names."""

    user: str | None = None
    user_groups: frozenset[str] = frozenset()
    words: str | None = None


NOBODY = Person()


class Circumstance(NamedTuple):
    """Who, when, where; whether the machine has restarted since what holds until then was put in force; and whether
    it is a server.
    """

    moment: Moment
    person: Person = NOBODY
    place: str = OFF_SITE
    restarted: bool = False
    is_server: bool = False

    def situation(self, zone: str | None, until_restart: Iterable[str]) -> Situation:
        """As policies look at it."""
        at, person = self.moment.at, self.person
        since = at.timestamp() - 2
        return Situation(
            at=at,
            user=person.user,
            user_groups=person.user_groups,
            place=self.place,
            zone=zone,
            last_start=since + 1 if self.restarted else None,
            applied=dict.fromkeys(until_restart, since) if self.restarted else {},
            is_server=self.is_server,
        )


class Calendar:
    """The moments that differ by which of some schedules are open, and by what has begun and ended."""

    def __init__(self, schedules: Iterable[tuple[str, Windows]], instants: Iterable[datetime], now: datetime) -> None:
        """`schedules` are given by their names, of which several may be the same; `instants` are when something begins
        or ends.
        """
        self._now, self._schedules, self._instants = now, list(schedules), sorted(instants)
        self._known: dict[tuple[str | None, ...], list[Moment]] = {}
        self.follows_device = any(windows.follows_device for _, windows in self._schedules)

    def moments(self, *zones: str | None) -> list[Moment]:
        """One moment for each distinct state of the clock, on devices in some zones taken together; the present one
        first.
        """
        zones = zones if zones and self.follows_device else (None,)
        known = self._known.get(zones)
        if known is None:
            known = self._known[zones] = self._look(zones)
        return known

    def _look(self, zones: Sequence[str | None]) -> list[Moment]:
        instants = [instant.timestamp() for instant in self._instants]
        coming = [instant for instant in self._instants if instant > self._now]
        clocks = [
            (key, one, zone) for key, one in self._schedules for zone in (zones if one.follows_device else (None,))
        ]
        found: dict[tuple[int, tuple[bool, ...]], Moment] = {}
        for at in sorted({self._now, *coming, *chain.from_iterable(self._changes(coming, zone) for zone in zones)}):
            opened = tuple(windows.is_open(at, zone) for _, windows, zone in clocks)
            key = (bisect_right(instants, at.timestamp()), opened)
            if key not in found:
                names = frozenset(key for (key, _, _), is_open in zip(clocks, opened, strict=True) if is_open)
                since = coming[place - 1] if (place := bisect_right(coming, at)) else None
                found[key] = Moment(at, names, since)
        return list(found.values())

    def _changes(self, coming: Sequence[datetime], zone: str | None) -> Iterator[datetime]:
        """When windows open or close: within some days of now, of what begins or ends, and of each day off."""
        offs = (day for _, windows in self._schedules for day in windows.starts_of_days_off(zone))
        starts = sorted({self._now, *coming, *(day for day in offs if day > self._now)})
        for _, windows in self._schedules:
            at = self._now
            while (change := windows.next_change(at, zone)) is not None:
                place = bisect_right(starts, change)
                if change <= starts[place - 1] + AHEAD:
                    yield change
                    at = change
                elif place < len(starts):
                    at = starts[place]
                else:
                    break


def people_of(estates: Sequence[Estate], directory: Directory) -> list[Person]:
    """Nobody in particular, and one witness for each way in which assignments tell people apart. Whom the directory
    does not know is nobody's.
    """
    people = [
        assignment.people
        for estate in estates
        for assignment in estate.assignments
        if assignment.people and assignment.names_people
    ]
    users = {user.casefold() for person in people for user in person.users if directory.knows(user)}
    groups = {key.casefold() for person in people for key in person.user_groups if directory.knows(user_group=key)}
    found: dict[tuple[str | None, frozenset[str]], Person] = {}

    def add(user: str, own: frozenset[str]) -> None:
        named, among = user if user in users else None, own & groups
        words = named or " and ".join(sorted(among))
        found.setdefault((named, among), Person(user, own, f"{words}" if named else f"people in {words}"))

    for user in sorted(users):
        add(user, directory.groups_of(user))
    if groups:
        for user in sorted({user.casefold() for group in directory.user_groups for user in group.users}):
            own = directory.groups_of(user)
            if own & groups:
                add(user, own)
    for key in sorted(groups - {key for person in found.values() for key in person.user_groups}):
        add(f"somebody in {key}", frozenset((key,)))
    return [NOBODY, *found.values()]


def told_apart(people: Sequence[Person], users: Set[str], user_groups: Set[str]) -> Sequence[Person]:
    """One of the people for each way in which these users and user groups tell them apart."""
    if not users and not user_groups:
        return people[:1]
    found: dict[tuple[str | None, frozenset[str]], Person] = {}
    for person in people:
        found.setdefault((person.user if person.user in users else None, person.user_groups & user_groups), person)
    return list(found.values())
