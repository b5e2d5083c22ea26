"""Bundles as they are kept: made ready to decide on, and the differences between them."""

from __future__ import annotations

from contextlib import suppress
from functools import lru_cache

from portero.core.resolving.bundles import with_overlay
from portero.core.resolving.policy import Policy
from portero.formats.bundles import unpack_bundle, unpack_overlay, write_difference
from portero.store import classes, overlays
from portero.store.database import Store


class NoBundle(Exception):
    """The store holds neither bundle nor overlay of that digest."""


class Bundles:
    """What was asked for lately is remembered: a digest always names the same."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self._shared = lru_cache(maxsize=512)(self._load_shared)
        self._own = lru_cache(maxsize=512)(self._load_own)
        self._differing = lru_cache(maxsize=256)(self._difference)

    # what is not there is raised, not returned: it may be there later, and must not be remembered as missing

    def _load_shared(self, digest: str) -> Policy:
        """The policy of a class's bundle. NoBundle."""
        with self._store.reading() as connection:
            packed = classes.get_bundle(connection, digest)
        if packed is None:
            raise NoBundle(digest)
        return Policy(unpack_bundle(packed, digest))

    def _load_own(self, digest: str, hostname: str) -> Policy:
        """The policy of an overlay on top of its bundle. NoBundle."""
        with self._store.reading() as connection:
            found = overlays.get_overlay(connection, digest)
            packed = classes.get_bundle(connection, found[1]) if found else None
        if found is None or packed is None:
            raise NoBundle(digest)
        bundle, overlay = unpack_bundle(packed, found[1]), unpack_overlay(found[0], digest, found[1])
        return Policy(with_overlay(bundle, overlay), hostname)

    def _difference(self, before: str, after: str) -> bytes:
        """What makes of one class's bundle another. NoBundle, where one of them is not there."""
        with self._store.reading() as connection:
            old, new = classes.get_bundle(connection, before), classes.get_bundle(connection, after)
        if old is None or new is None:
            raise NoBundle(before)
        return write_difference(old, new)

    def difference(self, before: str, after: str) -> bytes | None:
        """What a device fetches that has one bundle and should have another; None where it needs the whole one."""
        with suppress(NoBundle):
            return self._differing(before, after)
        return None

    def policy(self, digest: str, hostname: str) -> Policy | None:
        """The policy of that digest: a class's, which its devices share, or a single device's own."""
        with suppress(NoBundle):
            return self._shared(digest)
        with suppress(NoBundle):
            return self._own(digest, hostname)
        return None
