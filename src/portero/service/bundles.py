"""Bundles as they are kept: made ready to decide on, their parts, and the differences between those."""

from __future__ import annotations

import threading
from contextlib import suppress
from functools import lru_cache

from portero.core.resolving.bundles import Bundle, Overlay, with_overlay
from portero.core.resolving.documents import Shelf
from portero.core.resolving.policy import Policy
from portero.formats.bundles import Reader, parts_of_bundle, parts_of_overlay
from portero.formats.packing import write_difference
from portero.store import classes, overlays, parts
from portero.store.database import Store

WORTH_A_DIFFERENCE = 4_000
"""A part that has so many bytes packed is sent as a difference to the one before."""

MOST_NAMES_AT_HAND = 512
"""Of so many bundles and overlays it is at hand which parts they name."""

MOST_AT_HAND = 64_000_000
"""So many bytes of documents and parts are at hand for devices that come one after the other."""


class _AtHand:
    """Packed bytes that were asked for lately, by digest."""

    def __init__(self) -> None:
        self._kept: dict[str, bytes] = {}
        self._size = 0
        self._lock = threading.Lock()

    def get(self, digest: str) -> bytes | None:
        """The bytes of a digest, where they are at hand."""
        return self._kept.get(digest)

    def put(self, digest: str, packed: bytes) -> bytes:
        """Keep them; what was put first goes first."""
        with self._lock:
            if digest not in self._kept:
                self._kept[digest] = packed
                self._size += len(packed)
            while self._size > MOST_AT_HAND and len(self._kept) > 1:
                self._size -= len(self._kept.pop(next(iter(self._kept))))
        return packed


class NoBundle(Exception):
    """The store holds neither bundle nor overlay of that digest."""


class Bundles:
    """What was asked for lately is remembered: a digest always names the same."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self._at_hand = _AtHand()
        self._names_at_hand: dict[str, frozenset[str]] = {}
        self._reader = Reader(Shelf(), self.part)
        self._shared = lru_cache(maxsize=512)(self._load_shared)
        self._own = lru_cache(maxsize=512)(self._load_own)
        self._named = lru_cache(maxsize=1024)(self._load_named)
        self._differing = lru_cache(maxsize=64)(self._difference)

    def at_hand(self, digest: str) -> bytes | None:
        """The packed bytes of a document or part that was asked for lately; None where that costs a look."""
        return self._at_hand.get(digest)

    def document(self, digest: str) -> bytes | None:
        """The packed bytes of a class's document; None where there is none."""
        with self._store.reading() as connection:
            packed = classes.get_bundle(connection, digest)
        return self._at_hand.put(digest, packed) if packed is not None else None

    def part(self, digest: str) -> bytes | None:
        """A part's packed bytes; None where there is none."""
        if (known := self._at_hand.get(digest)) is not None:
            return known
        with self._store.reading() as connection:
            packed = parts.get_part(connection, digest)
        return self._at_hand.put(digest, packed) if packed is not None else None

    # what is not there is raised, not returned: it may be there later, and must not be remembered as missing

    def bundle(self, digest: str) -> Bundle:
        """A class's bundle, put together. NoBundle."""
        packed = self.document(digest)
        if packed is None:
            raise NoBundle(digest)
        return self._reader.bundle(packed, digest)

    def overlay(self, digest: str) -> tuple[Overlay, str]:
        """What a single device gets, put together, and the digest of the bundle that it goes on top of. NoBundle."""
        with self._store.reading() as connection:
            found = overlays.get_overlay(connection, digest)
        if found is None:
            raise NoBundle(digest)
        packed, below = found
        return self._reader.overlay(packed, digest, below), below

    def _load_shared(self, digest: str) -> Policy:
        return Policy(self.bundle(digest))

    def _load_own(self, digest: str, hostname: str) -> Policy:
        overlay, below = self.overlay(digest)
        return Policy(with_overlay(self.bundle(below), overlay), hostname)

    def _load_named(self, digest: str) -> frozenset[str]:
        with self._store.reading() as connection:
            packed = classes.get_bundle(connection, digest)
            if packed is not None:
                return parts_of_bundle(packed, digest)
            found = overlays.get_overlay(connection, digest)
        if found is None:
            raise NoBundle(digest)
        return parts_of_overlay(found[0], digest, found[1]) | self._named(found[1])

    def _difference(self, before: str, after: str) -> bytes | None:
        old, new = self.part(before), self.part(after)
        if old is None or new is None or len(new) < WORTH_A_DIFFERENCE:
            return None
        difference = write_difference(old, new)
        return difference if len(difference) < len(new) else None

    def difference(self, before: str, after: str) -> bytes | None:
        """What a device fetches that has one part and should have another; None where it needs the whole one."""
        return self._differing(before, after)

    def parts_of(self, digest: str) -> frozenset[str]:
        """The parts that a bundle names, or an overlay and the bundle below it; none where there is no such."""
        with suppress(NoBundle):
            found = self._names_at_hand[digest] = self._named(digest)
            while len(self._names_at_hand) > MOST_NAMES_AT_HAND:
                self._names_at_hand.pop(next(iter(self._names_at_hand)), None)
            return found
        return frozenset()

    def names_at_hand(self, digest: str) -> frozenset[str]:
        """The same, of one that was asked for lately; none where that costs a look."""
        return self._names_at_hand.get(digest, frozenset())

    def policy(self, digest: str, hostname: str) -> Policy | None:
        """The policy of that digest: a class's, which its devices share, or a single device's own."""
        with suppress(NoBundle):
            return self._shared(digest)
        with suppress(NoBundle):
            return self._own(digest, hostname)
        return None
