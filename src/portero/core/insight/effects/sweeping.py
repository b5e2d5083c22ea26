"""Sweep over a fleet: every class, in every circumstance that counts, under one or more states of the estate."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property, lru_cache, partial
from ipaddress import ip_network
from typing import Any, NamedTuple

from portero.core.insight.effects.circumstances import Calendar, Frames, frames_of, people_of
from portero.core.insight.effects.slicing import Slice
from portero.core.insight.effects.world import Groups
from portero.core.matching.members import Member
from portero.core.matching.membership_conditions import is_within
from portero.core.matching.windows import Windows
from portero.core.nouns.device import Kind
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.resolving.bundles import compile_bundle
from portero.core.resolving.policy import Policy


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


class Crowd:
    """A fleet sorted once, under some states of the estate."""

    def __init__(self, estates: Sequence[Estate], classes: Mapping[Any, list[Member]]) -> None:
        """`classes` has the devices by a tuple of their groups under each of the states."""
        self._networks = [[ip_network(network) for network in own.settings.gateway_networks] for own in estates]
        self._named = frozenset(name for estate in estates for name in estate.named_devices)
        self._by_zone = any(Windows.of(schedule).follows_device for estate in estates for schedule in estate.schedules)
        self._by_kind = any(one.hold_back is not None for estate in estates for one in estate.assignments)
        behind = lru_cache(maxsize=100_000)(self._gateways)
        nowhere = (False,) * len(estates)
        self.sorts: dict[Sort, list[Member]] = {}
        for groups, members in classes.items():
            if not (self._named or self._by_zone or self._by_kind or any(self._networks)):
                self.sorts[Sort(groups, "", None, nowhere)] = members
                continue
            apart: dict[tuple[str, str | None, tuple[bool, ...], bool], list[Member]] = defaultdict(list)
            for member in members:
                alone = member.id if self._named and not self._named.isdisjoint(names_of(member)) else ""
                gateways = behind(member.facts.addresses) if any(self._networks) else nowhere
                zone = member.facts.zone if self._by_zone else None
                apart[alone, zone, gateways, self._by_kind and member.facts.kind == Kind.SERVER].append(member)
            self.sorts.update((Sort(groups, *more), some) for more, some in apart.items())

    def _gateways(self, addresses: tuple[str, ...]) -> tuple[bool, ...]:
        return tuple(
            any(is_within(address, network) for network in networks for address in addresses)
            for networks in self._networks
        )


@dataclass
class Swept:
    """Devices of which the same becomes, with their policies and every state that these come to."""

    members: list[list[Member]]
    policies: tuple[Policy, ...]
    gateways: tuple[bool, ...]
    look: Callable[[], list[Frames]]

    @cached_property
    def frames(self) -> list[Frames]:
        """Every state, worked out when it is first asked for."""
        return self.look()

    @property
    def stays(self) -> bool:
        """Whether what is put in force is the same under all states of the estate."""
        first = self.policies[0].bundle
        return all(
            policy.bundle.assignments == first.assignments and policy.bundle == first for policy in self.policies
        )

    @property
    def devices(self) -> int:
        """How many devices they are."""
        return sum(map(len, self.members))

    @property
    def first(self) -> Member:
        """One of them."""
        return self.members[0][0]


class Sweep:
    """A crowd sorted by what becomes of it under slices of the estate."""

    def __init__(self, slices: Sequence[Slice], crowd: Crowd, directory: Directory, now: datetime) -> None:
        self._slices = slices
        self._calendar = Calendar.of([part.estate for part in slices], now)
        self._people = people_of([part.estate for part in slices], directory)
        self._named = frozenset(name for part in slices for name in part.estate.named_devices)
        self._holds_back = any(one.hold_back is not None for part in slices for one in part.estate.assignments)
        self._policies: dict[tuple[int, tuple[str, ...], str], Policy] = {}
        self._classes: dict[Sort, list[list[Member]]] = defaultdict(list)
        for sort, members in crowd.sorts.items():
            self._classes[self._reduced(sort, members[0])].append(members)

    def __len__(self) -> int:
        return len(self._classes)

    def _reduced(self, sort: Sort, member: Member) -> Sort:
        """Without what does not count in these slices."""
        groups = tuple(one.reduced(own) for one, own in zip(self._slices, sort.groups, strict=True))
        alone = sort.alone if sort.alone and not self._named.isdisjoint(names_of(member)) else ""
        zone = sort.zone if self._calendar.follows_device else None
        is_server = sort.is_server and self._holds_back
        return Sort(groups, alone, zone, sort.gateways, is_server)

    def classes(self) -> Iterator[Swept]:
        """Each sort of devices, the biggest first; worked out when it is reached."""
        for sort, members in sorted(self._classes.items(), key=lambda item: -sum(map(len, item[1]))):
            names = names_of(members[0][0]) if sort.alone else ()
            policies = tuple(self._policy(place, own, sort.alone, names) for place, own in enumerate(sort.groups))
            yield Swept(members, policies, sort.gateways, partial(self._frames, policies, sort))

    def _frames(self, policies: Sequence[Policy], sort: Sort) -> list[Frames]:
        moments = self._calendar.moments(sort.zone)
        return frames_of(policies, moments, self._people, sort.zone, sort.gateways, sort.is_server)

    def _policy(self, place: int, groups: tuple[str, ...], alone: str, names: tuple[str, ...]) -> Policy:
        key = (place, groups, alone)
        known = self._policies.get(key)
        if known is None:
            known = self._policies[key] = Policy(compile_bundle(self._slices[place].estate, groups, names))
        return known


def names_of(member: Member) -> tuple[str, ...]:
    """The names by which assignments may name a device: its id, and its hostname where that is its own."""
    return (member.id, member.facts.hostname) if member.keeps_name else (member.id,)
