"""The sorts of devices of a fleet as bits, so that what is so of thousands of classes is one number."""

from __future__ import annotations

from collections import defaultdict
from typing import NamedTuple

from portero.core.insight.effects.sweeping import Crowd, names_of
from portero.core.matching.members import Member
from portero.core.nouns.assignment import DeviceTarget, Target


class Side(NamedTuple):
    """Devices that have the same clock, and are servers or not."""

    zone: str | None
    is_server: bool
    where: int


class Sorts:
    """What sorts of devices there are, under one of the states of the estate that they were sorted under."""

    def __init__(self, crowd: Crowd, state: int = 0) -> None:
        self._members = list(crowd.sorts.values())
        self.key = tuple(crowd.sorts)
        """What sorts there are, in order: what is said of one fleet by these bits holds of another with the same."""
        self._holding: dict[str, int] = defaultdict(int)
        self._named: dict[str, int] = defaultdict(int)
        sides: dict[tuple[str | None, bool], int] = defaultdict(int)
        for place, (sort, members) in enumerate(crowd.sorts.items()):
            bit = 1 << place
            sides[sort.zone, sort.is_server] |= bit
            for group in sort.groups[state]:
                self._holding[group] |= bit
            for name in names_of(members[0]) if sort.alone else ():
                self._named[name] |= bit
        self.sides = [Side(*key, where) for key, where in sides.items()]

    def of(self, target: Target) -> int:
        """The sorts that are in a group, or the device of a name."""
        known = self._named if isinstance(target, DeviceTarget) else self._holding
        return known.get(target.device if isinstance(target, DeviceTarget) else target, 0)

    def members(self, where: int) -> list[list[Member]]:
        """The devices there, sort by sort; no device is in two."""
        found = []
        while where:
            low = where & -where
            found.append(self._members[low.bit_length() - 1])
            where ^= low
        return found
