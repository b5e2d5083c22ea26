"""Where programs are: the executables in folders, and below them."""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path

MOST_LOOKED_AT, DEEPEST = 200_000, 8
"""So many entries of folders are looked at, and so deep below those that are named."""
_LIBRARY = re.compile(r"\.so(\.|$)")
_WINDOWS = (".exe", ".msi")


def programs_below(roots: Sequence[Path], note: Callable[[str], None]) -> Iterator[tuple[Path, os.stat_result]]:
    """The executables below some folders, by their real paths, with what their files are.

    Links to folders are not followed. `note` is told, in words, where the bound cuts something off.
    """
    left = MOST_LOOKED_AT
    waiting = [(root, 0) for root in reversed(roots)]
    while waiting:
        folder, depth = waiting.pop()
        try:
            entries = sorted(os.scandir(folder), key=lambda entry: entry.name)
        except OSError:
            continue
        for entry in entries:
            left -= 1
            if left < 0:
                note(f"there are more than {MOST_LOOKED_AT:,} files where programs are looked for")
                return
            with suppress(OSError, RuntimeError):
                if entry.is_dir(follow_symlinks=False):
                    if depth < DEEPEST:
                        waiting.append((Path(entry.path), depth + 1))
                elif (path := _executable(entry)) is not None:
                    yield path, path.stat()


def _executable(entry: os.DirEntry[str]) -> Path | None:
    path = Path(entry.path).resolve(strict=True) if entry.is_symlink() else Path(entry.path)
    status = path.stat()
    if not stat.S_ISREG(status.st_mode) or not status.st_size or _LIBRARY.search(path.name):
        return None
    return path if status.st_mode & 0o111 or path.suffix.lower() in _WINDOWS else None
