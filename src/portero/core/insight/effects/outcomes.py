"""What was worked out once, kept for as long as nothing that it was made of is another."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from threading import Lock
from typing import Any, NamedTuple

MOST_KEPT, MOST_NAMED = 50_000, 100


class MadeOf(NamedTuple):
    """What something was made of, to be compared, and the objects whose identity counts there."""

    key: Hashable
    objects: tuple[object, ...]


class Outcomes:
    """Outcomes by what they were made of; those that were asked for last stay. Safe to use from several threads."""

    def __init__(self) -> None:
        self._known: dict[Hashable, tuple[Any, tuple[object, ...]]] = {}
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

    def get(self, made_of: MadeOf, make: Callable[[], Any]) -> Any:
        """What comes of it; worked out where that is not known."""
        with self._alone:
            # taken out and put in again: what was not asked for the longest stands first
            known = self._known.pop(made_of.key, None)
            if known is not None:
                self._known[made_of.key] = known
                return known[0]
        found = make()
        with self._alone:
            while len(self._known) >= MOST_KEPT:
                del self._known[next(iter(self._known))]
            # the objects are kept with it: as long as they are there nothing else has their identity
            self._known[made_of.key] = (found, made_of.objects)
        return found
