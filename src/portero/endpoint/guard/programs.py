"""Which program an open file is: known by its file from the inventory, else by its SHA-256."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from portero.core.nouns.device import Application
from portero.endpoint.inventory import ReadFile

MOST_REMEMBERED = 20_000
_CHUNK = 1 << 20
_TOLD_BY_CONTENT = ("product", "vendor", "version", "signer", "certificate", "category")
"""What a program carries with it wherever it is copied to, whatever it is called there."""


class FileMark(NamedTuple):
    """What tells one file's contents from another's, without reading them."""

    device: int
    inode: int
    size: int
    modified: int
    changed: int

    @classmethod
    def of(cls, status: os.stat_result) -> FileMark:
        """Of what the kernel says of the file."""
        return cls(status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns, status.st_ctime_ns)


class KnownPrograms:
    """The programs of the inventory, to be found by their files and by their contents."""

    def __init__(self, read: Iterable[ReadFile] = ()) -> None:
        self._by_file: dict[tuple[int, int, int, int], list[Application]] = {}
        self._by_digest: dict[str, Application] = {}
        files = list(read)
        for one in files:
            self._note_digest(one.application)
        for one in files:
            application = self.carried(one.application)
            with suppress(OSError):
                device = os.stat(application.path or "").st_dev
                place = (device, one.inode, one.size, one.changed)
                self._by_file.setdefault(place, []).append(application)
        self.applications = tuple(one.application for one in files)

    def _note_digest(self, application: Application) -> None:
        """Of several files with the same contents the one of which most is known speaks for them."""
        if application.sha256 is not None:
            before = self._by_digest.get(application.sha256)
            if before is None or _known(application) > _known(before):
                self._by_digest[application.sha256] = application

    def by_file(self, mark: FileMark) -> list[Application]:
        """What is known of a file: once for each of its paths, as links may give it several."""
        return self._by_file.get((mark.device, mark.inode, mark.size, mark.changed), [])

    def carried(self, application: Application) -> Application:
        """The application with what is known of the same contents elsewhere on this machine."""
        known = self._by_digest.get(application.sha256 or "")
        if known is None or known is application:
            return application
        carried = {
            name: value
            for name in _TOLD_BY_CONTENT
            if getattr(application, name) is None and (value := getattr(known, name)) is not None
        }
        return application.model_copy(update=carried) if carried else application


def _known(application: Application) -> int:
    return sum(getattr(application, name) is not None for name in _TOLD_BY_CONTENT)


def path_of(file: int, mark: FileMark) -> str | None:
    """Where an open file is, as this process sees it; None where it is not there, as the path is one of another mount
    namespace, or of a file that was deleted: such a path may say anything.
    """
    with suppress(OSError):
        path = os.readlink(f"/proc/self/fd/{file}")
        status = os.stat(path)
        if (status.st_dev, status.st_ino) == (mark.device, mark.inode):
            return os.fsencode(path).decode(errors="backslashreplace")[:1024]
    return None


def digest_of_file(file: int) -> str:
    """The SHA-256 of an open file, in hexadecimal digits. OSError."""
    seen, place = hashlib.sha256(), 0
    while chunk := os.pread(file, _CHUNK, place):
        seen.update(chunk)
        place += len(chunk)
    return seen.hexdigest()


class Digests:
    """SHA-256 of files, remembered for as long as a file stays what it is."""

    def __init__(self) -> None:
        self._known: dict[FileMark, str] = {}

    def get(self, mark: FileMark) -> str | None:
        """The digest where it is known."""
        return self._known.get(mark)

    def make(self, file: int, mark: FileMark) -> str:
        """Read the file. OSError."""
        digest = digest_of_file(file)
        # written meanwhile: what was read may be neither the one nor the other
        if FileMark.of(os.fstat(file)) == mark:
            if len(self._known) >= MOST_REMEMBERED:
                self._known.clear()
            self._known[mark] = digest
        return digest


def candidates(known: KnownPrograms, mark: FileMark, path: str | None, digest: str | None) -> tuple[Application, ...]:
    """The programs that a file may be taken for: one for each path that leads to it. Each is looked at."""
    found = known.by_file(mark)
    if not found:
        own = Application(path=path, file=Path(path).name[:255] if path else None, sha256=digest)
        return (known.carried(own),)
    if path is None or any(one.path == path for one in found):
        return tuple(found)
    return (*found, found[0].model_copy(update={"path": path, "file": Path(path).name[:255]}))
