"""What is in play: which assignments count for this person, at this moment, in this place."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import NamedTuple

from portero.core.matching.windows import Windows
from portero.core.nouns.schedule import Schedule
from portero.core.nouns.verdict import Aside
from portero.core.resolving.bundles import Bundle, BundleAssignment
from portero.core.resolving.ladder import NOT_IN_PLAY, REPLACED

THIS_PERSON, THEIR_GROUP, EVERYONE = range(3)
"""Rung 3: this person, over a user group of theirs, over everyone."""

OFF_SITE = "off-site"
ITSELF = -1
"""Rung 4: the device itself stands above all of its groups."""


WHOLE_MINUTES = 200_000_000.0
"""Since then (1976) every zone is whole minutes from UTC."""
_MOST_MINUTES = 50_000


class Situation(NamedTuple):
    """Who asks, when and where. Names are folded; a place that is not known counts as off-site."""

    at: datetime
    user: str | None = None
    user_groups: frozenset[str] = frozenset()
    place: str = OFF_SITE
    zone: str | None = None
    last_start: float | None = None
    applied: Mapping[str, float] = {}
    """Since when assignments that hold until restart are applied, by key, in seconds; else since they start."""
    is_server: bool = False
    """Whether the machine is a server: what is held back there waits until somebody accepts it."""


class Gates:
    """The conditions under which a bundle's assignments are in play."""

    def __init__(self, bundle: Bundle) -> None:
        self.assignments = bundle.assignments
        rank = {key: number for number, key in enumerate(bundle.groups)}
        self.targets = [
            ITSELF if assignment.target is None else rank[assignment.target] for assignment in bundle.assignments
        ]
        self.windows = {
            key: Windows.of(Schedule.model_validate(written)) for key, written in bundle.references.schedules.items()
        }
        self._gated = [place for place, one in enumerate(bundle.assignments) if has_gate(one)]
        self._replacing = [place for place, one in enumerate(bundle.assignments) if one.replaces_weaker]
        self._open = tuple(
            NOT_IN_PLAY if place in set(self._gated) else EVERYONE for place in range(len(bundle.assignments))
        )
        self._until_restart = [place for place, one in enumerate(bundle.assignments) if one.until_restart]
        self._opened: dict[tuple[float, str | None], tuple[bool, ...]] = {}
        self._facts_needed = {fact for place in self._gated for fact in self.facts_needed(place)}

    @property
    def ends_at_restarts(self) -> bool:
        """Whether some assignment holds until the machine restarts."""
        return bool(self._until_restart)

    def moments(self, situation: Situation, seconds: float) -> tuple[bool, ...]:
        """What of a situation changes with time alone: which schedules are open, and what a restart has ended."""
        opened: tuple[bool, ...] = ()
        if self.windows:
            # windows open and close with a minute, wherever zones are whole minutes from UTC
            asked = (seconds // 60 if seconds > WHOLE_MINUTES else seconds, situation.zone)
            known = self._opened.get(asked)
            opened = self._look_at_clocks(situation, asked) if known is None else known
        if not self._until_restart:
            return opened
        return opened + tuple(_restarted(self.assignments[at], situation, seconds) for at in self._until_restart)

    def _look_at_clocks(self, situation: Situation, asked: tuple[float, str | None]) -> tuple[bool, ...]:
        if len(self._opened) >= _MOST_MINUTES:
            self._opened.clear()
        found = tuple(windows.is_open(situation.at, situation.zone) for windows in self.windows.values())
        self._opened[asked] = found
        return found

    def people(self, situation: Situation, moments: tuple[bool, ...]) -> tuple[int, ...]:
        """Each assignment's place on the people rung, or that it does not count now."""
        if not self._gated and not self._replacing:
            return self._open
        people, seconds = list(self._open), situation.at.timestamp()
        opened = dict(zip(self.windows, moments, strict=False))
        for place in self._gated:
            assignment = self.assignments[place]
            if aside_by_itself(assignment, situation, seconds) is None and (
                assignment.schedule is None or opened[assignment.schedule]
            ):
                people[place] = _rung(assignment, situation)
        self._replace(people, seconds)
        return tuple(people)

    def rungs_of(self, place: int) -> Sequence[int]:
        """The places on the people rung that an assignment may have where it counts."""
        return (THIS_PERSON, THEIR_GROUP) if self.assignments[place].names_people else (EVERYONE,)

    def replacers(self, people: Sequence[int], seconds: float) -> dict[str, int]:
        """For each kind of ruleset the strongest assignment in play that replaces weaker ones, if there is one."""
        strongest: dict[str, int] = {}
        for place in self._replacing:
            assignment = self.assignments[place]
            if people[place] != NOT_IN_PLAY and _decides_something(assignment, seconds):
                before = strongest.get(assignment.kind)
                if before is None or self.targets[place] < self.targets[before]:
                    strongest[assignment.kind] = place
        return strongest

    def _replace(self, people: list[int], seconds: float) -> None:
        strongest = self.replacers(people, seconds) if self._replacing else {}
        for place, one in enumerate(self.assignments if strongest else ()):
            by = strongest.get(one.kind)
            if by is None or one.mandatory or people[place] == NOT_IN_PLAY:
                continue
            if self.targets[place] > self.targets[by]:
                people[place] = REPLACED

    def aside(self, place: int, situation: Situation) -> Aside | None:
        """Why an assignment does not count now; None where it does. What replaces it is not looked at."""
        assignment, seconds = self.assignments[place], situation.at.timestamp()
        reason = aside_by_itself(assignment, situation, seconds)
        if reason is not None or assignment.schedule is None:
            return reason
        return None if self.windows[assignment.schedule].is_open(situation.at, situation.zone) else Aside.SCHEDULE

    def some_need(self, facts: Iterable[str]) -> bool:
        """Whether it hangs on one of these facts of a device whether some assignment counts."""
        return not self._facts_needed.isdisjoint(facts)

    def facts_needed(self, place: int) -> Iterator[str]:
        """The facts of a device on which it hangs whether an assignment counts."""
        assignment = self.assignments[place]
        if assignment.schedule is not None and self.windows[assignment.schedule].follows_device:
            yield "zone"
        if assignment.place != "anywhere":
            yield "place"
        if assignment.until_restart:
            yield "last_start"


def has_gate(assignment: BundleAssignment) -> bool:
    """Whether it counts only for some people, at some times, in some places, or not yet."""
    return (
        assignment.names_people
        or assignment.schedule is not None
        or assignment.place != "anywhere"
        or assignment.starts is not None
        or assignment.ends is not None
        or assignment.until_restart
        or assignment.state != "active"
    )


def _rung(assignment: BundleAssignment, situation: Situation) -> int:
    if not assignment.names_people:
        return EVERYONE
    return THIS_PERSON if situation.user in assignment.users else THEIR_GROUP


def aside_by_itself(assignment: BundleAssignment, situation: Situation, seconds: float) -> Aside | None:
    """Why an assignment does not count now, its schedule left out of account."""
    if assignment.state != "active":
        return Aside(assignment.state)
    if assignment.starts is not None and seconds < assignment.starts:
        return Aside.NOT_STARTED
    if assignment.ends is not None and seconds >= assignment.ends:
        return Aside.ENDED
    if assignment.names_people and not _is_for(assignment, situation):
        return Aside.OTHER_PEOPLE
    if assignment.place not in ("anywhere", situation.place):
        return Aside.OTHER_PLACE
    if assignment.until_restart and _restarted(assignment, situation, seconds):
        return Aside.RESTARTED
    return None


def _is_for(assignment: BundleAssignment, situation: Situation) -> bool:
    if situation.user is None:
        return False
    return situation.user in assignment.users or not situation.user_groups.isdisjoint(assignment.user_groups)


def _restarted(assignment: BundleAssignment, situation: Situation, seconds: float) -> bool:
    since = situation.applied.get(assignment.key, assignment.starts)
    start = situation.last_start
    return since is not None and start is not None and since < start <= seconds


def _decides_something(assignment: BundleAssignment, seconds: float) -> bool:
    return any(rule.action != "log" and (rule.until is None or seconds < rule.until) for rule in assignment.rules)
