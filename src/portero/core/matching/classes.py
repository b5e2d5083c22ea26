"""Devices by their groups; and what is told of them whatever an estate says, found once."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from functools import cached_property
from typing import Any, TypeVar

from portero.core.matching.members import Member

Groups = tuple[str, ...]
"""A device's groups, strongest first."""
Told = TypeVar("Told", bound=Hashable)
Tell = Callable[[Member], Told]
"""What is told of a device, always by the same function where it is the same that is told."""


def names_of(member: Member) -> tuple[str, ...]:
    """The names by which assignments may name a device: its id, and its hostname where that is its own."""
    return (member.id, member.facts.hostname) if member.keeps_name else (member.id,)


class FleetClasses(dict[Groups, list[Member]]):
    """The devices of a fleet by their groups. Neither it nor its lists are changed once they are made."""

    @classmethod
    def of(cls, members: Iterable[Member], groups: Callable[[str], Groups]) -> FleetClasses:
        """Of some devices, given each one's groups by its id."""
        found: dict[Groups, list[Member]] = defaultdict(list)
        for member in members:
            found[groups(member.id)].append(member)
        return cls(found)

    @cached_property
    def by_name(self) -> dict[str, tuple[Groups, Member]]:
        """The devices with their groups, by each of their names."""
        return {name: (own, member) for own, members in self.items() for member in members for name in names_of(member)}

    @cached_property
    def _known(self) -> dict[tuple[Groups, Tell[Any]], Mapping[Any, list[Member]]]:
        return {}

    def apart(self, own: Groups, members: Sequence[Member], tell: Tell[Told]) -> Mapping[Told, list[Member]]:
        """All devices that are in these groups, or some of them, by what is told of each."""
        if self.get(own) is not members:
            return _apart(members, tell)
        known = self._known.get((own, tell))
        if known is None:
            known = self._known[own, tell] = _apart(members, tell)
        return known

    def moving(self, moved: Mapping[str, Groups]) -> dict[tuple[Groups, Groups], list[Member]]:
        """The devices by their groups now and once those in `moved`, by id, have others."""
        left = {self.by_name[id][0] for id in moved if id in self.by_name}
        found: dict[tuple[Groups, Groups], list[Member]] = {}
        for own, members in self.items():
            if own not in left:
                found[own, own] = members
                continue
            if staying := [member for member in members if member.id not in moved]:
                found[own, own] = staying
            for member in members:
                if member.id in moved:
                    found.setdefault((own, moved[member.id]), []).append(member)
        return found

    def once(self, moved: Mapping[str, Groups]) -> FleetClasses:
        """The same devices once those in `moved`, by id, have other groups."""
        found = FleetClasses()
        for (_, then), members in self.moving(moved).items():
            found[then] = [*found[then], *members] if then in found else members
        return found


def _apart(members: Iterable[Member], tell: Tell[Told]) -> dict[Told, list[Member]]:
    found: dict[Told, list[Member]] = defaultdict(list)
    for member in members:
        found[tell(member)].append(member)
    return dict(found)
