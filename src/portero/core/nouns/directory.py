"""People and their user groups."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import Annotated

from pydantic import Field

from portero.core.nouns.base import Fault, Noun, Text, Timestamp, doubled, unknown_word


class UserGroup(Noun):
    """People, by themselves and by way of other user groups."""

    key: Text
    users: Annotated[tuple[Text, ...], Field(max_length=100_000)] = ()
    user_groups: Annotated[tuple[Text, ...], Field(max_length=10_000)] = ()


class PersonFound(Noun):
    """A person, with all user groups that they are in."""

    user: str
    user_groups: tuple[str, ...]


class DirectoryFound(Noun):
    """The people and user groups that a search finds, the first of them."""

    people: tuple[PersonFound, ...]
    people_in_all: int
    user_groups: tuple[str, ...]


class Directory(Noun):
    """People and their user groups. Names fold case."""

    users: Annotated[tuple[Text, ...], Field(max_length=500_000)] = ()
    user_groups: Annotated[tuple[UserGroup, ...], Field(max_length=50_000)] = ()

    @cached_property
    def _parents(self) -> dict[str, set[str]]:
        """User groups, by each user group that they take in."""
        parents: dict[str, set[str]] = {}
        for group in self.user_groups:
            for inner in group.user_groups:
                parents.setdefault(inner.casefold(), set()).add(group.key.casefold())
        return parents

    @cached_property
    def _own(self) -> dict[str, set[str]]:
        """User groups that name a person themselves, by person."""
        own: dict[str, set[str]] = {}
        for group in self.user_groups:
            for user in group.users:
                own.setdefault(user.casefold(), set()).add(group.key.casefold())
        return own

    @cached_property
    def people(self) -> frozenset[str]:
        """Everybody who is in it, by themselves or in a user group; folded."""
        in_groups = (user for group in self.user_groups for user in group.users)
        return frozenset(user.casefold() for user in (*self.users, *in_groups))

    @cached_property
    def _keys(self) -> frozenset[str]:
        return frozenset(group.key.casefold() for group in self.user_groups)

    def knows(self, user: str | None = None, user_group: str | None = None) -> bool:
        """Whether there is such a person, or user group, as far as it can say: an empty one cannot."""
        if not self.users and not self.user_groups:
            return True
        return user.casefold() in self.people if user is not None else (user_group or "").casefold() in self._keys

    def groups_of(self, user: str) -> frozenset[str]:
        """All user groups that a person is in, nested ones too; folded."""
        found: set[str] = set()
        waiting = list(self._own.get(user.casefold(), ()))
        while waiting:
            key = waiting.pop()
            if key not in found:
                found.add(key)
                waiting += self._parents.get(key, ())
        return frozenset(found)

    def find(self, text: str, most: int) -> DirectoryFound:
        """The people and user groups in whose names a text stands, the first of them."""
        wanted = text.strip().casefold()
        names = {user.casefold(): user for group in self.user_groups for user in group.users}
        names |= {user.casefold(): user for user in self.users}
        people = sorted(folded for folded in names if wanted in folded)
        keys = {group.key.casefold(): group.key for group in self.user_groups}
        return DirectoryFound(
            people=tuple(
                PersonFound(user=names[folded], user_groups=tuple(keys[key] for key in sorted(self.groups_of(folded))))
                for folded in people[:most]
            ),
            people_in_all=len(people),
            user_groups=tuple([key for folded, key in sorted(keys.items()) if wanted in folded][:most]),
        )

    def faults(self) -> Iterator[Fault]:
        """User groups that stand twice, that are not there, or that take each other in."""
        where = ("directory", "user_groups")
        keys = [group.key.casefold() for group in self.user_groups]
        yield from doubled(where, keys)
        known = set(keys)
        for number, group in enumerate(self.user_groups):
            for place, inner in enumerate(group.user_groups):
                if inner.casefold() not in known:
                    yield Fault(
                        (*where, number, "user_groups", place), unknown_word("user group", inner, sorted(known))
                    )
        yield from self._cycles(keys)

    def _cycles(self, keys: list[str]) -> Iterator[Fault]:
        inner = {
            group.key.casefold(): [user_group.casefold() for user_group in group.user_groups]
            for group in self.user_groups
        }
        done: set[str] = set()
        for start in keys:
            # depth first without recursion: a chain of user groups may be as long as the directory is big
            path: dict[str, None] = {}
            waiting: list[tuple[str, bool]] = [(start, False)]
            while waiting:
                key, leaving = waiting.pop()
                if leaving:
                    path.pop(key, None)
                    done.add(key)
                elif key in path:
                    ring = [*list(path)[list(path).index(key) :], key]
                    message = f"user groups that take each other in: {' → '.join(ring[:10])}; take one of them out"
                    yield Fault(("directory", "user_groups", keys.index(key), "user_groups"), message)
                    return
                elif key not in done:
                    path[key] = None
                    waiting.append((key, True))
                    waiting += [(one, False) for one in inner.get(key, ())]


class WaitingDirectory(Noun):
    """A generation that waits to be looked at, as it lost many people."""

    generation: int
    at: Timestamp
    by: str
    people: Annotated[int, Field(description="How many people it has.")]
    lost: Annotated[int, Field(description="How many people of the generation that counts it has not.")]


class DirectoryState(Directory):
    """The directory as it counts: its generation, who brought it in when, and which one waits to be looked at."""

    generation: int
    at: Timestamp
    by: str
    waiting: WaitingDirectory | None = None
