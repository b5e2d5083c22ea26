"""What a state of the estate is looked at in: the fleet and its people, what programs there are, and when."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cached_property
from typing import NamedTuple

from portero.core.insight.effects.list_use import LookedAt, nothing_seen
from portero.core.insight.effects.matcher import Matcher
from portero.core.insight.effects.outcomes import Outcomes
from portero.core.matching.classes import FleetClasses, Groups
from portero.core.matching.members import Member
from portero.core.nouns.device import Application
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate


class Having(NamedTuple):
    """Who has a program: the ids of the machines, and who started it there of late."""

    devices: Collection[str]
    people: Collection[str] = ()


def _told_nobody(_what: str, _done: int, _of: int) -> None:
    pass


@dataclass
class World:
    """The fleet as it is now, or as it would be; never changed while it is looked at."""

    members: Sequence[Member]
    groups: Callable[[str], Groups]
    """A device's groups, by its id."""
    directory: Directory
    programs: Callable[[], Sequence[Application]]
    """The programs that are found on devices; asked for only where programs count."""
    catalogue: Mapping[str, frozenset[str]]
    now: datetime
    matcher: Callable[[Estate], Matcher]
    """Finds an estate's rules that concern a subject; made once for each."""
    list_use: LookedAt = nothing_seen
    """How sites of an allow-only list are used."""
    having: Callable[[Callable[[Application], bool]], Mapping[str, Having]] = lambda _is_meant: {}
    """Who has programs of some sort, by what each program is called with its version."""
    outcomes: Outcomes = field(default_factory=Outcomes)
    """What was worked out before, under this state or another."""
    sorted: Callable[[], FleetClasses] | None = None
    """The devices by their groups, where somebody has sorted them already."""
    base: FleetClasses | None = None
    """The devices by their groups before some of them have `moved`."""
    moved: Mapping[str, Groups] = field(default_factory=dict)
    note: Callable[[str, int, int], None] = _told_nobody
    """Is told how far a look is: what is looked at, how much of it is done, of how much."""
    state: object = field(default_factory=object)
    """The same wherever the devices of the fleet as it is, their facts and their groups are the same."""

    @cached_property
    def classes(self) -> FleetClasses:
        """The devices by their groups."""
        return self.sorted() if self.sorted is not None else FleetClasses.of(self.members, self.groups)

    def once(self, moved: Mapping[str, Groups]) -> World:
        """The same world once some devices have other groups."""
        return replace(
            self,
            groups=lambda id: moved.get(id) or self.groups(id),
            sorted=lambda: self.classes.once(moved) if moved else self.classes,
            base=self.classes,
            moved=moved,
        )
