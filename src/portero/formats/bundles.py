"""Bundles and overlays as they travel: in parts since format 3, whole before. docs/reference/wire.md has the format."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from typing import NamedTuple

import msgspec

from portero.core.digests import digest_of
from portero.core.resolving.bundles import READABLE_WHOLE, Bundle, Overlay
from portero.core.resolving.documents import (
    DOCUMENT_FORMAT,
    Document,
    NamedOverlay,
    Part,
    Shelf,
)
from portero.formats.packing import BadBundle, pack, unpacked

READABLE_FORMATS = (*READABLE_WHOLE, DOCUMENT_FORMAT)
_DOCUMENTS, _PARTS, _WHOLE = 1, 6, 9
"""How hard each is packed: of documents there may be thousands, each small and fetched by few."""


class Packed(NamedTuple):
    """A bundle, an overlay or a part ready to travel: its digest, its size unpacked, and the packed bytes."""

    digest: str
    size: int
    packed: bytes


def _packed(plain: bytes, level: int) -> Packed:
    return Packed(digest_of(plain), len(plain), pack(plain, level))


# --- in parts ---


def pack_document(document: Document) -> Packed:
    """A bundle's document."""
    return _packed(msgspec.json.encode(document, order="deterministic"), _DOCUMENTS)


def pack_named_overlay(overlay: NamedOverlay, bundle: str) -> Packed:
    """An overlay's document, bound to the bundle of that digest."""
    return _packed(msgspec.json.encode({"bundle": bundle, "overlay": overlay}, order="deterministic"), _DOCUMENTS)


def pack_parts(parts: Mapping[str, Part]) -> Iterator[Packed]:
    """Parts."""
    for part in parts.values():
        yield _packed(part(), _PARTS)


# --- whole ---


def pack_bundle(bundle: Bundle) -> Packed:
    """A bundle as one that reads no parts gets it."""
    return _packed(msgspec.json.encode(bundle, order="deterministic"), _WHOLE)


def pack_overlay(overlay: Overlay, bundle: str) -> Packed:
    """An overlay as one that reads no parts gets it, bound to the bundle of that digest."""
    return _packed(msgspec.json.encode({"bundle": bundle, "overlay": overlay}, order="deterministic"), _WHOLE)


# --- read ---


class _Format(msgspec.Struct):
    portero_bundle: int = 0


class _OverlayFormat(msgspec.Struct):
    portero_overlay: int = 0


class _BoundFormat(msgspec.Struct):
    bundle: str
    overlay: _OverlayFormat


class _Bound(msgspec.Struct, forbid_unknown_fields=True):
    bundle: str
    overlay: Overlay


class _NamedBound(msgspec.Struct, forbid_unknown_fields=True):
    bundle: str
    overlay: NamedOverlay


@contextmanager
def _reading(what: str) -> Iterator[None]:
    try:
        yield
    except BadBundle:
        raise
    except (msgspec.MsgspecError, ValueError) as problem:
        raise BadBundle(f"the {what} does not read as one: {problem}") from problem


def read_bundle(packed: bytes, digest: str) -> Bundle | Document:
    """A bundle as it travelled: whole, or its document. BadBundle where it is not what the digest names."""
    plain = unpacked(packed, digest, "bundle")
    with _reading("bundle"):
        format = _FORMAT.decode(plain).portero_bundle
        if format not in READABLE_FORMATS:
            raise BadBundle(f"the bundle is of format {format}, which is not known here")
        return _DOCUMENT.decode(plain) if format == DOCUMENT_FORMAT else _BUNDLE.decode(plain)


def _read_overlay(packed: bytes, digest: str, bundle: str) -> Overlay | NamedOverlay:
    plain = unpacked(packed, digest, "overlay")
    with _reading("overlay"):
        known = _BOUND_FORMAT.decode(plain)
        if known.bundle != bundle:
            raise BadBundle("the overlay goes with another bundle")
        in_parts = known.overlay.portero_overlay == DOCUMENT_FORMAT
        return _NAMED_BOUND.decode(plain).overlay if in_parts else _BOUND.decode(plain).overlay


def parts_of_bundle(packed: bytes, digest: str) -> frozenset[str]:
    """The digests of the parts that a bundle names; none where it is whole. BadBundle."""
    found = read_bundle(packed, digest)
    return frozenset(found.parts) if isinstance(found, Document) else frozenset()


def parts_of_overlay(packed: bytes, digest: str, bundle: str) -> frozenset[str]:
    """The digests of the parts that an overlay names; none where it is whole. BadBundle."""
    found = _read_overlay(packed, digest, bundle)
    return frozenset(found.parts) if isinstance(found, NamedOverlay) else frozenset()


class Reader(NamedTuple):
    """Reads bundles and overlays of all formats."""

    shelf: Shelf
    fetch: Callable[[str], bytes | None]
    """Gives the packed bytes of a part by its digest, from where they are kept."""

    def bundle(self, packed: bytes, digest: str) -> Bundle:
        """A bundle, put together. BadBundle where it or a part is not what the digest names."""
        found = read_bundle(packed, digest)
        with _reading("bundle"):
            return self.shelf.bundle(found, self._part) if isinstance(found, Document) else found

    def overlay(self, packed: bytes, digest: str, bundle: str) -> Overlay:
        """An overlay to the bundle of a digest, put together. BadBundle likewise."""
        found = _read_overlay(packed, digest, bundle)
        with _reading("overlay"):
            return self.shelf.overlay(found, self._part) if isinstance(found, NamedOverlay) else found

    def _part(self, digest: str) -> bytes:
        packed = self.fetch(digest)
        if packed is None:
            raise BadBundle(f"a part of the bundle is missing: {digest}")
        return unpacked(packed, digest, "part")


# Made here, by one thread: msgspec works a type out when it is first asked for, and several threads that ask at once
# bring the process down.
_FORMAT = msgspec.json.Decoder(_Format)
_BUNDLE = msgspec.json.Decoder(Bundle)
_DOCUMENT = msgspec.json.Decoder(Document)
_BOUND_FORMAT = msgspec.json.Decoder(_BoundFormat)
_BOUND = msgspec.json.Decoder(_Bound)
_NAMED_BOUND = msgspec.json.Decoder(_NamedBound)
