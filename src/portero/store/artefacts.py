"""Big files beside the database, named by the SHA-256 of their bytes: they are there whole, or not at all."""

from __future__ import annotations

import mmap
import os
import tempfile
from collections.abc import Callable, Collection, Iterable
from pathlib import Path
from typing import BinaryIO, TypeVar

from portero.core.digests import digest_of_file, digits_of
from portero.formats.owned_files import make_owned

Made = TypeVar("Made")
_BEGUN = ".begun"


def sha256_of(path: Path) -> str:
    """The name of a file's bytes: `sha256:` and their SHA-256 in hexadecimal."""
    with path.open("rb") as file:
        return digest_of_file(file)


class Artefacts:
    """A folder of them. What was begun and never finished is thrown away when it is opened."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._unclaimed: set[str] = set()
        """What was made and is named nowhere yet."""
        make_owned(folder)
        for begun in folder.glob(f"*{_BEGUN}*"):
            begun.unlink(missing_ok=True)

    def path(self, digest: str) -> Path:
        """Where the file of a digest is."""
        return self.folder / digits_of(digest)

    def has(self, digest: str) -> bool:
        """Whether it is there."""
        return self.path(digest).exists()

    def begin(self) -> Path:
        """A new file to write to; `keep` gives it its name."""
        handle, name = tempfile.mkstemp(suffix=_BEGUN, dir=self.folder)
        os.close(handle)
        return Path(name)

    def make(self, write: Callable[[BinaryIO], Made]) -> tuple[str, int, Made]:
        """A file that `write` writes: its digest, its size in bytes, and what `write` returned. `claim` it."""
        begun = self.begin()
        try:
            with begun.open("wb") as out:
                made = write(out)
                out.flush()
                os.fsync(out.fileno())
            digest, size = sha256_of(begun), begun.stat().st_size
            # the name comes last: whoever finds it finds all of it
            self._unclaimed.add(digest)
            begun.replace(self.path(digest))
        finally:
            begun.unlink(missing_ok=True)
        return digest, size, made

    def mapped(self, digest: str) -> memoryview:
        """The file's bytes, mapped. FileNotFoundError. It may be dropped while it is mapped."""
        with self.path(digest).open("rb") as file:
            return memoryview(mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ))

    def claim(self, digests: Iterable[str]) -> None:
        """These are named where they are wanted by now, or not wanted."""
        self._unclaimed.difference_update(digests)

    def drop_others(self, wanted: Collection[str]) -> None:
        """Drop all that are not wanted, but for what is being written or has just been."""
        names = {digits_of(digest) for digest in (*wanted, *tuple(self._unclaimed))}
        for file in self.folder.iterdir():
            if file.name not in names and _BEGUN not in file.name:
                file.unlink(missing_ok=True)
