"""Bundles and their parts, packed to travel: zstd-compressed JSON named by the SHA-256 of the JSON."""

from __future__ import annotations

import threading

import zstandard

from portero.core.digests import digest_of

MAX_BUNDLE_BYTES = 64_000_000
_LEAST_WINDOW = 18


class BadBundle(ValueError):
    """A bundle, part or manifest that must not be applied: altered, unsigned, of another format, or too big."""


class _Compressors(threading.local):
    """One for each thread and level: making one costs as much as packing a small document with it."""

    def __init__(self) -> None:
        self.by_level: dict[int, zstandard.ZstdCompressor] = {}


_compressors = _Compressors()


def pack(plain: bytes, level: int) -> bytes:
    """Bytes, packed."""
    known = _compressors.by_level
    if level not in known:
        known[level] = zstandard.ZstdCompressor(level=level)
    return known[level].compress(plain)


def write_difference(before: bytes, after: bytes) -> bytes:
    """What makes of one part's packed bytes another's: zstd with the former, unpacked, as its dictionary."""
    old, new = _plain(before), _plain(after)
    window = (len(old) + len(new)).bit_length() + 1
    parameters = zstandard.ZstdCompressionParameters.from_level(12, window_log=max(_LEAST_WINDOW, window))
    dictionary = zstandard.ZstdCompressionDict(old, dict_type=zstandard.DICT_TYPE_RAWCONTENT)
    return zstandard.ZstdCompressor(dict_data=dictionary, compression_params=parameters).compress(new)


def apply_difference(before: bytes, difference: bytes, digest: str) -> bytes:
    """The packed bytes of the part of a digest, of the packed bytes of the one before and the difference.

    BadBundle where they do not come to it.
    """
    dictionary = zstandard.ZstdCompressionDict(_plain(before), dict_type=zstandard.DICT_TYPE_RAWCONTENT)
    packed = pack(_plain(difference, "difference", dictionary), level=3)
    unpacked(packed, digest, "part")
    return packed


def _plain(packed: bytes, what: str = "part", dictionary: zstandard.ZstdCompressionDict | None = None) -> bytes:
    reader = zstandard.ZstdDecompressor(dict_data=dictionary, max_window_size=1 << 27)
    try:
        # the reader sets aside at once whatever size the header claims, its own bound notwithstanding
        if zstandard.frame_content_size(packed) > MAX_BUNDLE_BYTES:
            raise BadBundle(f"the {what} says that it is larger than {MAX_BUNDLE_BYTES // 1_000_000} MB unpacked")
        return reader.decompress(packed, max_output_size=MAX_BUNDLE_BYTES)
    except zstandard.ZstdError as problem:
        raise BadBundle(f"the {what} is damaged: it cannot be unpacked") from problem


def unpacked(packed: bytes, digest: str, what: str) -> bytes:
    """What was packed. BadBundle where it is not what the digest names."""
    plain = _plain(packed, what)
    if digest_of(plain) != digest:
        raise BadBundle(f"the {what} is not the one that its manifest names: the digests differ")
    return plain


def is_packed(packed: bytes, digest: str) -> bool:
    """Whether these bytes are, unpacked, what the digest names."""
    try:
        return digest_of(_plain(packed)) == digest
    except BadBundle:
        return False
