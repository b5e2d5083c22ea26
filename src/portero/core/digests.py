"""Digests by which bytes are named everywhere: `sha256:` and 64 hexadecimal digits."""

from __future__ import annotations

import hashlib
from typing import BinaryIO

_PREFIX = "sha256:"


def digest_of(data: bytes) -> str:
    """The digest of bytes."""
    return _PREFIX + hashlib.sha256(data).hexdigest()


def digest_of_file(file: BinaryIO) -> str:
    """The digest of what is left to read of an open file."""
    return _PREFIX + hashlib.file_digest(file, "sha256").hexdigest()  # type: ignore[arg-type]


def digits_of(digest: str) -> str:
    """A digest without its prefix: the name under which files keep what it names."""
    return digest.removeprefix(_PREFIX)
