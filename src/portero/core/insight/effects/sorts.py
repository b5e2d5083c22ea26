"""The sorts of devices of a fleet as bits, so that what is so of thousands of classes is one number."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from functools import cache, lru_cache
from ipaddress import ip_network
from typing import Any, NamedTuple, TypeVar

from portero.core.matching.classes import FleetClasses, Groups, Tell, names_of
from portero.core.matching.members import Member
from portero.core.matching.membership_conditions import is_within
from portero.core.matching.windows import Windows
from portero.core.nouns.assignment import DeviceTarget, Target
from portero.core.nouns.device import Kind
from portero.core.nouns.estate import Estate

Telling = TypeVar("Telling", bound=Hashable)


class Sort(NamedTuple):
    """What devices are told apart by: their groups under each state; the device itself where an assignment names it;
    the time zone where a schedule follows the device; whether it leaves filtering to a gateway under each state;
    whether it is a server, where something is held back.
    """

    groups: tuple[Groups, ...]
    alone: str
    zone: str | None
    gateways: tuple[bool, ...]
    is_server: bool = False
    moved: bool = False
    """Whether they are devices that have other groups than in the fleet as it is."""


class Crowd:
    """A fleet sorted once, under some states of the estate."""

    def __init__(
        self,
        estates: Sequence[Estate],
        fleet: FleetClasses,
        classes: Mapping[Any, list[Member]],
        moved: Mapping[str, tuple[Groups, ...]] | None = None,
    ) -> None:
        """`classes` has the devices of the fleet by a tuple of their groups under each of the states. `moved` gives the
        groups of those that have others by now, by id: they are put in sorts of their own behind all others, so that
        of the others the same can be said as before.
        """
        self._networks = [[ip_network(network) for network in own.settings.gateway_networks] for own in estates]
        self._named = frozenset(name for estate in estates for name in estate.named_devices)
        self._moved = moved or {}
        by_zone = any(Windows.of(schedule).follows_device for estate in estates for schedule in estate.schedules)
        by_kind = any(one.hold_back is not None for estate in estates for one in estate.assignments)
        self._behind = lru_cache(maxsize=100_000)(self._gateways)
        self.sorts: dict[Sort, list[Member]] = {}
        self.left: set[Sort] = set()
        self._came: dict[Sort, list[Member]] = {}
        special = {fleet.by_name[name][0] for name in (*self._named, *self._moved) if name in fleet.by_name}
        for groups, members in classes.items():
            for (zone, is_server), some in fleet.apart(groups[0], members, _clock(by_zone, by_kind)).items():
                sort = Sort(groups, "", zone, (False,) * len(estates), is_server)
                if groups[0] in special or any(self._networks):
                    self._tell_apart(sort, some)
                else:
                    self.sorts[sort] = some
        self.sorts.update(self._came)

    def _tell_apart(self, whole: Sort, members: Iterable[Member]) -> None:
        """Devices of one sort, but for what is looked at one by one."""
        for member in members:
            alone = member.id if self._named and not self._named.isdisjoint(names_of(member)) else ""
            gateways = self._behind(member.facts.addresses) if any(self._networks) else whole.gateways
            sort = whole._replace(alone=alone, gateways=gateways)
            # one that all have left stays, with nobody in it
            own = self.sorts.setdefault(sort, [])
            then = self._moved.get(member.id)
            if then is not None:
                self.left.add(sort)
                own = self._came.setdefault(sort._replace(groups=then, moved=True), [])
            own.append(member)

    def _gateways(self, addresses: tuple[str, ...]) -> tuple[bool, ...]:
        return tuple(
            any(is_within(address, network) for network in networks for address in addresses)
            for networks in self._networks
        )


@cache
def _clock(by_zone: bool, by_kind: bool) -> Tell[tuple[str | None, bool]]:
    """Tells the time zone of a device, and whether it is a server, as far as that counts."""

    def tell(member: Member) -> tuple[str | None, bool]:
        return member.facts.zone if by_zone else None, by_kind and member.facts.kind == Kind.SERVER

    return tell


class Side(NamedTuple):
    """Devices that have the same clock, and are servers or not."""

    zone: str | None
    is_server: bool
    where: int


Sides = tuple[Side, ...]


class Sorts:
    """What sorts of devices there are, under one of the states of the estate that they were sorted under."""

    def __init__(self, crowd: Crowd, state: int = 0) -> None:
        self._members = list(crowd.sorts.values())
        self._numbers: dict[int, int] = {}
        self._groups = [sort.groups[state] for sort in crowd.sorts]
        self.key = tuple(sort for sort in crowd.sorts if not sort.moved)
        """What sorts there are in the fleet as it is, in order: what is said by their bits holds of each fleet that has
        the same.
        """
        self.disturbed = 0
        """Those that devices have left, and those of devices that have moved."""
        self.behind_gateway = 0
        """Those that leave filtering to a gateway when they are on-site."""
        self._holding: dict[str, int] = defaultdict(int)
        self._named: dict[str, int] = defaultdict(int)
        sides: dict[tuple[str | None, bool], int] = defaultdict(int)
        for place, (sort, members) in enumerate(crowd.sorts.items()):
            bit = 1 << place
            if sort.moved or sort in crowd.left:
                self.disturbed |= bit
            if not members:
                continue
            sides[sort.zone, sort.is_server] |= bit
            self.behind_gateway |= bit if sort.gateways[state] else 0
            for group in sort.groups[state]:
                self._holding[group] |= bit
            for name in names_of(members[0]) if sort.alone else ():
                self._named[name] |= bit
        self._sides = [Side(*key, where) for key, where in sides.items()]

    def within(self, where: int) -> Sides:
        """The sides of some sorts, without the others."""
        return tuple(side._replace(where=side.where & where) for side in self._sides if side.where & where)

    def of(self, target: Target) -> int:
        """The sorts that are in a group, or the device of a name."""
        known = self._named if isinstance(target, DeviceTarget) else self._holding
        return known.get(target.device if isinstance(target, DeviceTarget) else target, 0)

    def by(self, tell: Callable[[Groups], Telling]) -> dict[Telling, int]:
        """The sorts by what is told of devices in their groups."""
        told: dict[Groups, Telling] = {}
        found: dict[Telling, int] = defaultdict(int)
        for place, groups in enumerate(self._groups):
            if groups not in told:
                told[groups] = tell(groups)
            found[told[groups]] |= 1 << place
        return found

    def number(self, where: int) -> int:
        """How many devices are there."""
        known = self._numbers.get(where)
        if known is None:
            known = self._numbers[where] = sum(map(len, self.members(where)))
        return known

    def members(self, where: int) -> list[list[Member]]:
        """The devices there, sort by sort; no device is in two."""
        found = []
        while where:
            low = where & -where
            found.append(self._members[low.bit_length() - 1])
            where ^= low
        return found
