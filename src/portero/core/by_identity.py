"""What is made of immutable things, kept by their identity for as long as they are there."""

from __future__ import annotations

import weakref
from collections.abc import Callable
from typing import Generic, TypeVar

Thing = TypeVar("Thing")
Made = TypeVar("Made")


class ByIdentity(Generic[Thing, Made]):
    """Makes something of a thing when it is first asked for; it goes with the thing."""

    def __init__(self, make: Callable[[Thing], Made]) -> None:
        self._make = make
        self._made: dict[int, Made] = {}

    def __contains__(self, identity: int) -> bool:
        return identity in self._made

    def of(self, thing: Thing) -> Made:
        """What was made of a thing."""
        found = self._made.get(id(thing))
        return self.keep(thing, self._make(thing)) if found is None else found

    def keep(self, thing: Thing, made: Made) -> Made:
        """What was made of a thing elsewhere."""
        if id(thing) not in self._made:
            weakref.finalize(thing, self._made.pop, id(thing), None)
        self._made[id(thing)] = made
        return made


class MadeOnce:
    """Content that many bundles share. What is made of it is made once, and goes with it."""

    _made: dict[Callable[..., object], object]

    def once(self, make: Callable[..., Made]) -> Made:
        """What a function makes of it."""
        kept = self.__dict__.setdefault("_made", {})
        if make not in kept:
            kept[make] = make(self)
        made: Made = kept[make]
        return made
