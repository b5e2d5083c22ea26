"""Files replaced whole, so that a kill at any moment leaves the old one or the new one. Most are their owner's only."""

from __future__ import annotations

import os
from contextlib import suppress
from pathlib import Path


def make_owned(folder: Path) -> None:
    """A folder that only its owner may enter, with all above it, where there is none."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)


def write_owned(path: Path, data: bytes) -> None:
    """Write a file that only its owner may read, in a folder that is made where there is none. OSError."""
    make_owned(path.parent)
    replace_whole(path, data, 0o600)


def replace_whole(path: Path, data: bytes, mode: int) -> None:
    """Write a file with these permissions, in a folder that is there. OSError: the file is as it was."""
    # another process may be writing the same one
    fresh = path.with_name(f"{path.name}.{os.getpid()}.new")
    fresh.unlink(missing_ok=True)
    try:
        descriptor = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode)
        with os.fdopen(descriptor, "wb") as file:
            os.fchmod(file.fileno(), mode)
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        fresh.replace(path)
    except OSError:
        with suppress(OSError):
            fresh.unlink(missing_ok=True)
        raise
