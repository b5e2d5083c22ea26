"""All devices with their groups, kept up to date; changed facts and edited rules cost what they touch."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import NamedTuple

from portero.core.matching.members import Member
from portero.core.matching.membership import Membership


class Regrouping(NamedTuple):
    """What other groups come to: the devices whose groups are others than before."""

    membership: Membership
    bits: dict[str, int]
    groups: dict[str, tuple[str, ...]]


class Fleet:
    """The devices of an estate and the groups each is in. Not safe to change from two threads at once."""

    def __init__(self, membership: Membership) -> None:
        self.membership = membership
        self._members: dict[str, Member] = {}
        self._bits: dict[str, int] = {}
        self._groups: dict[str, tuple[str, ...]] = {}

    def __len__(self) -> int:
        return len(self._members)

    def __iter__(self) -> Iterator[Member]:
        return iter(list(self._members.values()))

    def get(self, id: str) -> Member | None:
        """One device."""
        return self._members.get(id)

    def groups_of(self, id: str) -> tuple[str, ...]:
        """The device's groups, strongest first. KeyError where there is no such device."""
        return self._groups[id]

    def put(self, member: Member, now: datetime) -> tuple[str, ...]:
        """A device that is new, or whose facts, labels or lifecycle have changed; returns its groups."""
        bits = self.membership.bits(member, now)
        self._members[member.id], self._bits[member.id] = member, bits
        groups = self._groups[member.id] = self.membership.groups_of_bits(bits, member)
        return groups

    def drop(self, id: str) -> None:
        """A device that is there no more."""
        for kept in (self._members, self._bits, self._groups):
            kept.pop(id, None)

    def plan(self, membership: Membership, now: datetime) -> Regrouping:
        """What other groups would come to. Nothing changes yet; only conditions that are new are evaluated."""
        changed: dict[str, tuple[str, ...]] = {}
        all_bits: dict[str, int] = {}
        fresh = membership.fresh if membership.continues else None
        look = fresh is None or fresh or membership.names_time
        for id, member in self._members.items():
            bits = self._bits[id]
            if look:
                more = membership.bits(member, now, fresh)
                bits = more if fresh is None else bits | more
                all_bits[id] = bits
            groups = membership.groups_of_bits(bits, member)
            if groups != self._groups[id]:
                changed[id] = groups
        return Regrouping(membership, all_bits, changed)

    def take(self, regrouping: Regrouping) -> None:
        """Take planned groups into use. No device may have changed since the plan was made."""
        self._bits |= regrouping.bits
        self._groups |= regrouping.groups
        self.membership = regrouping.membership
