"""All devices with their groups, kept up to date; changed facts and edited rules cost what they touch."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from itertools import compress
from operator import ne, or_
from typing import NamedTuple

from portero.core.matching.classes import FleetClasses
from portero.core.matching.members import Member
from portero.core.matching.membership import Membership
from portero.core.nouns.group import Group


class Regrouping(NamedTuple):
    """What other groups come to: the devices whose bits, and those whose groups, are others than before."""

    membership: Membership
    bits: dict[str, int]
    groups: dict[str, tuple[str, ...]]


class Fleet:
    """The devices of an estate and the groups each is in. One thread may change it while others read."""

    def __init__(self, membership: Membership) -> None:
        self.membership = membership
        self._members: dict[str, Member] = {}
        self._bits: dict[str, int] = {}
        self._groups: dict[str, tuple[str, ...]] = {}
        self.changes = 0
        """Counts changes of devices and their facts."""
        self._regrouped = 0
        self._classes: tuple[tuple[int, int], FleetClasses] | None = None

    def __len__(self) -> int:
        return len(self._members)

    def __iter__(self) -> Iterator[Member]:
        return iter(self.members())

    def members(self) -> list[Member]:
        """All devices, as they are now."""
        return list(self._members.values())

    @property
    def state(self) -> tuple[int, int]:
        """The same only where all devices, their facts and their groups are the same."""
        return self.changes, self._regrouped

    def classes(self) -> FleetClasses:
        """All devices by their groups, as they are now; sorted once, as long as nothing changes."""
        state = self.state
        known = self._classes
        if known is None or known[0] != state:
            known = self._classes = (state, FleetClasses.of(self.members(), self.groups_of))
        return known[1]

    def in_group(self, key: str) -> dict[str, Member]:
        """The devices that are in a group now, by id."""
        held = [id for id, groups in list(self._groups.items()) if key in groups]
        return {id: member for id in held if (member := self._members.get(id)) is not None}

    def held_by(self, group: Group, now: datetime) -> list[Member]:
        """The devices that a group, in use or not, would hold."""
        return Membership([group], [group.key]).held_by(group.key, self.members(), now)

    def get(self, id: str) -> Member | None:
        """One device."""
        return self._members.get(id)

    def groups_of(self, id: str) -> tuple[str, ...]:
        """The device's groups, strongest first; none where there is no such device (any more)."""
        return self._groups.get(id, ())

    def combinations(self) -> set[tuple[str, ...]]:
        """The groups that devices are in together, each combination once."""
        return set(self._groups.values())

    def put(self, member: Member, now: datetime) -> tuple[str, ...]:
        """A device that is new, or whose facts, labels or lifecycle have changed; returns its groups."""
        bits = self.membership.bits(member, now)
        self._members[member.id], self._bits[member.id] = member, bits
        groups = self._groups[member.id] = self.membership.groups_of_bits(bits, member)
        self.changes += 1
        return groups

    def drop(self, id: str) -> None:
        """A device that is there no more."""
        for kept in (self._members, self._bits, self._groups):
            kept.pop(id, None)
        self.changes += 1

    def put_all(self, members: Sequence[Member], now: datetime) -> None:
        """Many devices at once."""
        for member, bits in zip(members, self.membership.bits_of_all(members, now), strict=True):
            self._members[member.id], self._bits[member.id] = member, bits
            self._groups[member.id] = self.membership.groups_of_bits(bits, member)
        self.changes += 1

    def plan(self, membership: Membership, now: datetime) -> Regrouping:
        """What other groups would come to. Nothing changes yet; only what is new is evaluated."""
        members, before = list(self._members.values()), list(self._bits.values())
        all_bits = self._planned_bits(membership, members, before, now)
        changed: dict[str, tuple[str, ...]] = {}
        for place in self._suspects(membership, members, all_bits):
            member = members[place]
            groups = membership.groups_of_bits(all_bits[place], member)
            if groups != self._groups[member.id]:
                changed[member.id] = groups
        places = compress(range(len(members)), map(ne, before, all_bits))
        return Regrouping(membership, {members[place].id: all_bits[place] for place in places}, changed)

    def _suspects(self, membership: Membership, members: list[Member], all_bits: list[int]) -> Iterable[int]:
        """The places of those devices whose groups may be others: all, or those that a few changed groups concern."""
        if membership.changed is None or membership.names_time:
            return range(len(members))
        held_before = list(self._groups.values())
        suspects = set(membership.pinned_places(members))
        for key in membership.changed:
            good = membership.good_bits(key, all_bits)
            holds, held = map(good.__contains__, all_bits), [key in groups for groups in held_before]
            suspects.update(compress(range(len(members)), map(ne, holds, held)))
        return sorted(suspects)

    @staticmethod
    def _planned_bits(membership: Membership, members: list[Member], before: list[int], now: datetime) -> list[int]:
        if not membership.continues:
            return membership.bits_of_all(members, now)
        if not membership.fresh and not membership.names_time:
            return before
        return list(map(or_, before, membership.fresh_bits_of_all(members, now)))

    def take(self, regrouping: Regrouping) -> None:
        """Take planned groups into use. No device may have changed since the plan was made."""
        self._bits |= regrouping.bits
        self._groups |= regrouping.groups
        self.membership = regrouping.membership
        self._regrouped += 1
