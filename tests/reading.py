"""Bundles read in tests: whole ones, and such as name parts that are at hand."""

from __future__ import annotations

from collections.abc import Callable

from portero.core.resolving.bundles import Bundle
from portero.core.resolving.documents import Shelf
from portero.formats.bundles import Reader


def read_bundle(packed: bytes, digest: str, part: Callable[[str], bytes | None] = lambda _digest: None) -> Bundle:
    """The bundle of these bytes; `part` gives the packed bytes of a part. BadBundle."""
    return Reader(Shelf(), part).bundle(packed, digest)
