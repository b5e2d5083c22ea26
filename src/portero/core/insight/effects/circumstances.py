"""Every circumstance that counts: one witness for each distinct person, moment and place."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence, Set
from datetime import UTC, datetime, timedelta
from itertools import product
from typing import NamedTuple

from portero.core import sentences, wording
from portero.core.matching.windows import Windows
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.resolving.bundles import Bundle
from portero.core.resolving.policy import Frame, Policy
from portero.core.resolving.situations import OFF_SITE, Situation

AHEAD = timedelta(days=8)
"""How far beyond now, and beyond each moment at which something begins or ends, windows are looked at."""
MOST_INSTANTS, MOST_STEPS, MOST_PEOPLE = 24, 600, 60
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

    def __init__(
        self,
        schedules: Iterable[tuple[str, Windows]],
        instants: Iterable[datetime],
        now: datetime,
        most: int | None = None,
    ) -> None:
        """`instants` are when something begins or ends; of those to come, as many as `most` are looked at."""
        self._now, self._most, self._schedules = now, most, list(schedules)
        self._instants = sorted(instants)
        self._known: dict[str | None, list[Moment]] = {}
        self.follows_device = any(windows.follows_device for _, windows in self._schedules)

    @classmethod
    def of(cls, estates: Sequence[Estate], now: datetime) -> Calendar:
        """Of all that some estates do by the clock."""
        used = [{assignment.schedule for assignment in estate.assignments if assignment.schedule} for estate in estates]
        schedules = [
            (schedule.key, Windows.of(schedule))
            for estate, keys in zip(estates, used, strict=True)
            for schedule in estate.schedules
            if schedule.key in keys
        ]
        return cls(schedules, {instant for estate in estates for instant in _instants(estate)}, now, MOST_INSTANTS)

    def moments(self, zone: str | None = None) -> list[Moment]:
        """One moment for each distinct state of the clock, on devices in a zone; the present one first."""
        zone = zone if self.follows_device else None
        known = self._known.get(zone)
        if known is None:
            known = self._known[zone] = self._look(zone)
        return known

    def _look(self, zone: str | None) -> list[Moment]:
        seconds = [instant.timestamp() for instant in self._instants]
        coming = [instant for instant in self._instants if instant > self._now][: self._most]
        found: dict[tuple[int, tuple[bool, ...]], Moment] = {}
        for base in (self._now, *coming):
            for at in self._steps(base, zone):
                opened = tuple(windows.is_open(at, zone) for _, windows in self._schedules)
                key = (bisect_right(seconds, at.timestamp()), opened)
                names = frozenset(key for (key, _), is_open in zip(self._schedules, opened, strict=True) if is_open)
                found.setdefault(key, Moment(at, names, None if base == self._now else base))
        return list(found.values())

    def _steps(self, base: datetime, zone: str | None) -> Iterator[datetime]:
        yield base
        at = base
        for _ in range(MOST_STEPS):
            changes = [after for _, windows in self._schedules if (after := windows.next_change(at, zone)) is not None]
            if not changes or min(changes) > base + AHEAD:
                return
            at = min(changes)
            yield at


def _instants(estate: Estate) -> Iterator[datetime]:
    for assignment in estate.assignments:
        yield from (moment.astimezone(UTC) for moment in (assignment.starts, assignment.ends) if moment is not None)
        if assignment.hold_back is not None:
            yield from (one.at.astimezone(UTC) + assignment.hold_back for one in assignment.came)
    for ruleset in estate.rulesets:
        yield from (rule.valid_until.astimezone(UTC) for rule in ruleset.rules if rule.valid_until is not None)


def people_of(estates: Sequence[Estate], directory: Directory, most: int | None = MOST_PEOPLE) -> list[Person]:
    """Nobody in particular, and one witness for each way in which assignments tell people apart, as many as `most`.
    Whom the directory does not know is nobody's.
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
    return [NOBODY, *list(found.values())[:most]]


class Frames(NamedTuple):
    """The frames of one or two policies that a circumstance comes to, and all circumstances that come to them."""

    frames: tuple[Frame, ...]
    to_gateway: tuple[bool, ...]
    circumstances: list[Circumstance]


def frames_of(
    policies: Sequence[Policy],
    moments: Sequence[Moment],
    people: Sequence[Person],
    zone: str | None,
    gateways: Sequence[bool],
    is_server: bool,
) -> list[Frames]:
    """What devices of a class can come to, each distinct state once. `gateways` says whether such a device leaves
    filtering to a gateway when it is on-site, under each of the policies; `is_server`, whether they are servers.
    """
    bundles = [policy.bundle for policy in policies]
    until_restart = {
        assignment.key for bundle in bundles for assignment in bundle.assignments if assignment.until_restart
    }
    places = (OFF_SITE, ON_SITE) if any(gateways) or any(map(_names_places, bundles)) else (OFF_SITE,)
    found: dict[tuple[object, ...], Frames] = {}
    for moment, person, place, restarted in product(
        moments if any(map(_names_time, bundles)) else moments[:1],
        _told_apart(people, bundles),
        places,
        (False, True) if until_restart else (False,),
    ):
        circumstance = Circumstance(moment, person, place, restarted, is_server)
        situation = circumstance.situation(zone, until_restart)
        frames = tuple(policy.frame(situation) for policy in policies)
        to_gateway = tuple(place == ON_SITE and gateway for gateway in gateways)
        key = (*frames, *to_gateway)
        known = found.get(key)
        if known is None:
            known = found[key] = Frames(frames, to_gateway, [])
        known.circumstances.append(circumstance)
    return list(found.values())


def _names_time(bundle: Bundle) -> bool:
    return any(
        assignment.schedule
        or assignment.starts is not None
        or assignment.ends is not None
        or any(rule.until for rule in assignment.rules)
        or assignment.came
        for assignment in bundle.assignments
    )


def _told_apart(people: Sequence[Person], bundles: Sequence[Bundle]) -> Sequence[Person]:
    """One of the people for each way in which these bundles tell them apart."""
    naming = [assignment for bundle in bundles for assignment in bundle.assignments if assignment.names_people]
    users = {user for person in naming for user in person.users}
    return told_apart(people, users, {key for person in naming for key in person.user_groups})


def told_apart(people: Sequence[Person], users: Set[str], user_groups: Set[str]) -> Sequence[Person]:
    """One of the people for each way in which these users and user groups tell them apart."""
    if not users and not user_groups:
        return people[:1]
    found: dict[tuple[str | None, frozenset[str]], Person] = {}
    for person in people:
        found.setdefault((person.user if person.user in users else None, person.user_groups & user_groups), person)
    return list(found.values())


def _names_places(bundle: Bundle) -> bool:
    return any(assignment.place != "anywhere" for assignment in bundle.assignments)


# --- in words ---


def when(changed: set[Circumstance], every: set[Circumstance]) -> str | None:
    """In which circumstances, in words: along each line on which it hangs."""
    if changed == every:
        return None
    parts = [*_by_person(changed, every), *_by_place(changed, every), *_by_schedule(changed, every)]
    if {circumstance.restarted for circumstance in every} != (
        own := {circumstance.restarted for circumstance in changed}
    ):
        parts.append("after a restart" if own == {True} else "until the machine restarts")
    since = {circumstance.moment.since for circumstance in changed}
    if None not in since:
        parts.append(sentences.from_moment(min(moment for moment in since if moment is not None)))
    elif {circumstance.moment.since for circumstance in every} != since:
        parts.append("for now")
    return ", ".join(parts) or "in some circumstances"


def _by_person(changed: set[Circumstance], every: set[Circumstance]) -> Iterator[str]:
    all_people, own = ({circumstance.person.words for circumstance in some} for some in (every, changed))
    if own != all_people:
        named = sorted(word for word in own if word)
        others = sorted(person for person in all_people - own if person)
        yield f"for {wording.joined(named)}" if None not in own else f"but for {wording.joined(others)}"


def _by_place(changed: set[Circumstance], every: set[Circumstance]) -> Iterator[str]:
    own = {circumstance.place for circumstance in changed}
    if own != {circumstance.place for circumstance in every}:
        yield own.pop()


def _by_schedule(changed: set[Circumstance], every: set[Circumstance]) -> Iterator[str]:
    schedules = sorted({key for circumstance in every for key in circumstance.moment.opened})
    for key in schedules:
        own = {key in circumstance.moment.opened for circumstance in changed}
        if own != {key in circumstance.moment.opened for circumstance in every}:
            yield f"during {key}" if own == {True} else f"outside {key}"
