"""What counts now: one immutable value, swapped whole."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple, TypeVar

from portero.core.insight.brought_rules import Contents, emptied
from portero.core.nouns.estate import Estate
from portero.core.nouns.revision import Change
from portero.store.estate import Versions

Reckoned = TypeVar("Reckoned")


@dataclass(frozen=True)
class Naming:
    """What manifests name beside a bundle: the category index, the generation in force of each feed, the epoch."""

    index: str
    generations: tuple[tuple[str, int], ...] = ()
    epoch: int = 1


@dataclass(frozen=True, eq=False)
class Snapshot:
    """All that counts as of one revision; never changed, only replaced."""

    estate: Estate
    """With what feeds bring in it."""
    revision: int
    versions: Versions
    contents: Contents
    naming: Naming

    @cached_property
    def authored(self) -> Estate:
        """The estate without what feeds bring: what is written down."""
        return emptied(self.estate, self.contents)

    def version(self, noun: str, key: str) -> int:
        """The revision that last changed an object; 0 where none did."""
        return self.versions[noun].get(key, 0)


class EstateTransition(NamedTuple):
    """A change on its way: what counts, what is to count, and what of it is authored."""

    before: Snapshot
    after: Snapshot
    changes: tuple[Change, ...]
    now: float


def changed_versions(versions: Versions, changes: tuple[Change, ...], revision: int) -> Versions:
    """The versions once a revision has made the changes."""
    made = {noun: dict(versions[noun]) for noun in {one.noun for one in changes}}
    for change in changes:
        if change.verb == "removed":
            made[change.noun].pop(change.key, None)
        else:
            made[change.noun][change.key] = revision
    return {**versions, **made}


class Current:
    """Holds what counts. Readers take `snapshot`, once; whoever changes it, or the fleet under it, does so alone."""

    TRIES = 3

    def __init__(self, snapshot: Snapshot) -> None:
        self.snapshot = snapshot
        self._lock = threading.Lock()
        self._stirred = 0

    @contextmanager
    def alone(self) -> Iterator[None]:
        """Nobody else changes anything meanwhile."""
        with self._lock:
            yield

    def stir(self) -> None:
        """What is reckoned at this time will be of yesterday: called by who is alone, before memory is changed."""
        self._stirred += 1

    def change(self, reckon: Callable[[], Reckoned], write: Callable[[Reckoned], None]) -> Reckoned:
        """Reckon something while everybody goes on, then write it alone. It must be of what counts: where something
        was changed meanwhile it is reckoned again, the last time alone.
        """
        for _ in range(self.TRIES):
            with self._lock:
                stirred = self._stirred
            try:
                reckoned = reckon()
            except Exception:
                # of a state that was changed under it nothing can be said
                if stirred == self._stirred:
                    raise
                continue
            with self._lock:
                if stirred == self._stirred:
                    write(reckoned)
                    return reckoned
        with self._lock:
            reckoned = reckon()
            write(reckoned)
            return reckoned
