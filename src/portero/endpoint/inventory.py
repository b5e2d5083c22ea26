"""The programs of this machine: looked for in folders, each read once for as long as it stays the same."""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import closing, suppress
from pathlib import Path
from threading import Event
from typing import Any, NamedTuple

import msgspec

from portero.core.nouns.device import MOST_APPLICATIONS, Application
from portero.endpoint.folder import Folder
from portero.formats.programs.looking import programs_below
from portero.formats.programs.reading import NotAProgram, ProgramReader

RECORD = "inventory.json"


def system_folders() -> tuple[Path, ...]:
    """Where programs are: the folders of the search path, and those for what comes with no package."""
    named = os.environ.get("PATH", os.defpath).split(os.pathsep)
    found = dict.fromkeys(Path(name).resolve() for name in (*named, "/opt", "/usr/games") if name)
    return tuple(folder for folder in found if folder.is_dir())


class _Kept(msgspec.Struct, frozen=True, array_like=True):
    """A program as it was read: what its file was then, and what it says."""

    size: int
    modified: int
    inode: int
    changed: int
    application: dict[str, Any]


class ReadFile(NamedTuple):
    """A program that was read, and what told its file then; times in nanoseconds."""

    inode: int
    size: int
    changed: int
    application: Application


def read_files(folder: Folder) -> list[ReadFile]:
    """What was read last, as it is kept in an endpoint's folder; nothing, where nothing that can be read is."""
    with suppress(msgspec.MsgspecError, OSError, ValueError):
        kept = _KEPT.decode(folder.read(RECORD) or b"{}").values()
        return [ReadFile(one.inode, one.size, one.changed, Application.model_validate(one.application)) for one in kept]
    return []


_KEPT = msgspec.json.Decoder(dict[str, _Kept])


class Inventory:
    """The programs in some folders. Looking again costs little: only what is new or another is read."""

    def __init__(self, folder: Folder, roots: Sequence[Path]) -> None:
        self._folder, self.roots = folder, tuple(roots)
        self.problem: str | None = None
        """What is not whole of it, in words."""
        self._ending = Event()
        self._kept = self._remembered()
        self.applications = self._applications()

    def _remembered(self) -> dict[str, _Kept]:
        with suppress(msgspec.MsgspecError, OSError):
            return _KEPT.decode(self._folder.read(RECORD) or b"{}")
        return {}

    def _applications(self) -> tuple[Application, ...]:
        return tuple(Application.model_validate(kept.application) for _, kept in sorted(self._kept.items()))

    def end(self) -> None:
        """Have a look that is under way in another thread end without a result, at the next file."""
        self._ending.set()

    def look(self) -> bool:
        """Look through the folders; whether there is something else than before."""
        found, self.problem = dict[str, _Kept](), None
        with closing(ProgramReader()) as reader:
            for path, status in programs_below(self.roots, self._note):
                if self._ending.is_set():
                    return False
                if len(found) >= MOST_APPLICATIONS:
                    self._note(f"there are more than {MOST_APPLICATIONS:,} programs; the others are left out")
                    break
                if (kept := self._read(reader, path, status)) is not None:
                    found.setdefault(kept.application["path"], kept)
        if found == self._kept:
            return False
        self._kept, self.applications = found, ()
        self.applications = self._applications()
        with suppress(OSError):
            self._folder.write(RECORD, msgspec.json.encode(found))
        return True

    def _note(self, problem: str) -> None:
        self.problem = self.problem or problem

    def _read(self, reader: ProgramReader, path: Path, status: os.stat_result) -> _Kept | None:
        # what was written may be dated back, but not when its file was changed last
        same = (status.st_size, status.st_mtime_ns, status.st_ino, status.st_ctime_ns)
        known = self._kept.get(os.fsencode(path).decode(errors="backslashreplace"))
        if known is not None and (known.size, known.modified, known.inode, known.changed) == same:
            return known
        try:
            read = reader.read(path)
        except (NotAProgram, OSError):
            # gone meanwhile, or not for us to read
            return None
        return _Kept(*same, read.application.model_dump(mode="json", exclude_none=True))
