"""What was worked out once, kept for as long as nothing that it was made of is another."""

from __future__ import annotations

from collections.abc import Hashable
from threading import Lock
from typing import Any, NamedTuple

MOST_KEPT, MOST_NAMED = 50_000, 100


class MadeOf(NamedTuple):
    """What something was made of: the assignments in order, what else counts of them, and the objects whose identity
    counts there.
    """

    assignments: tuple[int, ...]
    more: Hashable
    moment: Hashable
    objects: tuple[object, ...]

    @property
    def key(self) -> Hashable:
        """To be compared."""
        return self[:3]

    def is_alike(self, other: MadeOf) -> bool:
        """Whether it differs in assignments alone, and those that both have stand in the same order."""
        if self.moment != other.moment:
            return False
        own, theirs = set(self.assignments), set(other.assignments)
        return [one for one in self.assignments if one in theirs] == [one for one in other.assignments if one in own]


class Outcomes:
    """Outcomes by what they are about; those that were asked for last stay. Safe to use from several threads."""

    def __init__(self) -> None:
        self._known: dict[Hashable, Any] = {}
        self._names: dict[Hashable, int] = {}
        self._named = 0
        self._alone = Lock()

    def name(self, key: Hashable) -> int:
        """A number in place of something big that many outcomes are made of."""
        with self._alone:
            known = self._names.get(key)
            if known is None:
                if len(self._names) >= MOST_NAMED:
                    del self._names[next(iter(self._names))]
                self._named += 1
                known = self._names[key] = self._named
            return known

    def get(self, key: Hashable) -> Any:
        """What is kept there; None where nothing is."""
        with self._alone:
            # taken out and put in again: what was not asked for the longest stands first
            known = self._known.pop(key, None)
            if known is not None:
                self._known[key] = known
            return known

    def keep(self, key: Hashable, outcome: object) -> None:
        """Keep something in place of what is there."""
        with self._alone:
            while len(self._known) >= MOST_KEPT:
                del self._known[next(iter(self._known))]
            self._known[key] = outcome
