"""The category index on this machine: its files fetched, going on where a link broke off, checked and mapped."""

from __future__ import annotations

import mmap
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path

import httpx

from portero.core.digests import digest_of_file
from portero.core.matching.categories import CategoryIndex, LayeredIndex
from portero.endpoint.fetching import file_name, gather
from portero.endpoint.folder import Folder, Identity
from portero.formats.category_parts import CategoryPart, CategoryParts
from portero.formats.index_files import BadIndex, IndexFile
from portero.formats.packing import BadBundle


def _is(path: Path, digest: str) -> bool:
    """Whether a file is there, and what its name says."""
    try:
        with path.open("rb") as file:
            return digest_of_file(file) == digest
    except FileNotFoundError:
        return False


@dataclass(frozen=True)
class MachineIndex:
    """A category index as it is kept on this machine. The same digest is the same index, wherever its files are."""

    digest: str
    parts: CategoryParts = field(compare=False)
    folder: Path = field(compare=False)

    @property
    def intact(self) -> bool:
        """Whether all its files are there, and are what their names say."""
        return all(_is(self.folder / file_name(part.digest), part.digest) for part in self.parts.files)

    def mapped(self, part: CategoryPart) -> IndexFile:
        """One of its files, mapped. BadBundle where it is not what its name says."""
        path = self.folder / file_name(part.digest)
        if not _is(path, part.digest):
            raise BadBundle("the category index is not the one that the manifest names: the digests differ")
        with path.open("rb") as file:
            return IndexFile(memoryview(mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)))


@lru_cache(maxsize=8)
def open_index(kept: MachineIndex) -> CategoryIndex:
    """The index, mapped. BadBundle where a file is missing or is not what its name says."""
    try:
        base, *rest = map(kept.mapped, kept.parts.files)
    except (OSError, BadIndex) as problem:
        raise BadBundle(f"the category index cannot be read: {problem}") from problem
    return LayeredIndex(kept.digest, base, rest[0] if rest else None)


async def fetch_part(folder: Folder, http: httpx.AsyncClient, identity: Identity, part: CategoryPart) -> None:
    """Fetch one file that is not here yet, going on where it broke off before.

    ServiceUnreachable, NotTaken; BadBundle where what came is not what its name says.
    """
    name = f"index/{file_name(part.digest)}"
    path = folder.part(name)
    if _is(folder.path / name, part.digest):
        return
    have = path.stat().st_size if path.exists() else 0
    if have < part.bytes:
        await gather(http, identity, f"index-file/{part.digest}", path, have, part.bytes)
    if not _is(path, part.digest):
        path.unlink(missing_ok=True)
        raise BadBundle("a file of the category index was damaged on its way; it is fetched again")
    path.replace(folder.path / name)
