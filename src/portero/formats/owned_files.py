"""Files that only their owner may read, replaced whole: a kill at any moment leaves the old one or the new one."""

from __future__ import annotations

import os
from pathlib import Path


def make_owned(folder: Path) -> None:
    """A folder that only its owner may enter, with all above it, where there is none."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)


def write_owned(path: Path, data: bytes) -> None:
    """Write a file, in a folder that is made where there is none. OSError."""
    make_owned(path.parent)
    fresh = path.with_name(path.name + ".new")
    descriptor = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())
    fresh.replace(path)
