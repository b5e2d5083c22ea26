"""A program read from its file: name, digest, and what its headers, its package and the desktop say of it."""

from __future__ import annotations

import hashlib
import os
import re
import stat
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from portero.core.nouns.device import Application
from portero.core.nouns.program import ProgramKind, ReadProgram
from portero.formats.programs.desktop_entries import DesktopEntry, desktop_entries
from portero.formats.programs.packages import PackageOwners
from portero.formats.programs.worker import HeaderReader

MOST_HASHED, MOST_PARSED = 2 * 10**9, 200 * 10**6
"""Files are told by their SHA-256 up to the one size, and their headers read up to the other, in bytes."""
_CHUNK = 1 << 20
_BEGINS = {b"\x7fELF": ProgramKind.ELF, b"MZ": ProgramKind.PE, b"#!": ProgramKind.SCRIPT}
_APP_IMAGE = b"AI"
_APP_IMAGE_NAME = re.compile(
    r"^(?P<product>.+?)(?:[-_ ]v?(?P<version>\d+(?:\.\d+)+)\b.*)?(?:[-_](?:x86_64|amd64|aarch64|arm64))?\.appimage$",
    re.IGNORECASE,
)


class NotAProgram(ValueError):
    """What was named is no file whose contents can be read; the message says why."""


class ProgramReader:
    """Reads programs. Package database and desktop entries are read once; make another reader to read them anew."""

    def __init__(
        self,
        owners: PackageOwners | None = None,
        entries: Callable[[], Mapping[Path, DesktopEntry]] = desktop_entries,
    ) -> None:
        self._owners, self._find_entries = owners or PackageOwners(), entries
        self._entries: Mapping[Path, DesktopEntry] | None = None
        self._headers = HeaderReader()

    def read(self, path: Path) -> ReadProgram:
        """Read one program. NotAProgram, OSError."""
        real = _real(path)
        # looked at before it is opened: opening a device may do something
        if not stat.S_ISREG(mode := real.stat().st_mode):
            raise NotAProgram(f"{_shown(path)} is no file: {_what(mode)}")
        problems: list[str] = []
        descriptor = os.open(real, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        with open(descriptor, "rb") as file:
            status = os.fstat(descriptor)
            if not stat.S_ISREG(status.st_mode):
                raise NotAProgram(f"{_shown(path)} is no file: {_what(status.st_mode)}")
            begin = file.read(16)
            kind = next((kind for magic, kind in _BEGINS.items() if begin.startswith(magic)), ProgramKind.OTHER)
            digest = _digest(file, begin, status.st_size, problems)
        told = self._told(real, kind, status.st_size, begin)
        problems += told.pop("problems", [])
        package, build_id = told.pop("package", None), told.pop("build_id", None)
        if "�" in _shown(real) or "\\x" in _shown(real):
            problems.append("its name is no UTF-8")
        application = Application(
            file=_shown(real).rpartition("/")[2][:255], path=_shown(real)[:1024], sha256=digest, **told
        )
        return ReadProgram(
            application=application,
            kind=kind,
            size=status.st_size,
            package=package,
            build_id=build_id,
            problems=tuple(one[:300] for one in problems),
        )

    def _told(self, path: Path, kind: ProgramKind, size: int, begin: bytes) -> dict[str, Any]:
        """What is said of a program: by the package that owns it, else by its own headers and the desktop."""
        if self._entries is None:
            self._entries = self._find_entries()
        package, entry = self._owners.owner_of(path), self._entries.get(path)
        category = (entry.category if entry else None) or (package.category if package else None)
        found: dict[str, Any] = {"category": category.value} if category else {}
        if package is not None:
            more = {"product": package.name, "version": package.version, "vendor": package.maintainer}
            return found | more | {"package": package.name}
        if entry is not None:
            found["product"] = entry.name
        if kind is ProgramKind.ELF and begin[8:10] == _APP_IMAGE and (named := _APP_IMAGE_NAME.match(path.name)):
            # such names hold no spaces
            found |= {name: value.replace("_", " ") for name, value in named.groupdict().items() if value}
        if kind in (ProgramKind.ELF, ProgramKind.PE):
            found |= self._in_headers(path, size)
        return found

    def _in_headers(self, path: Path, size: int) -> dict[str, Any]:
        if size > MOST_PARSED:
            return {"problems": [f"its headers are not read, as it is bigger than {MOST_PARSED // 10**6} MB"]}
        return self._headers.read(path)

    def close(self) -> None:
        """End what reads headers."""
        self._headers.close()


def _real(path: Path) -> Path:
    try:
        return path.resolve(strict=True)
    except RuntimeError as problem:
        raise NotAProgram(f"{_shown(path)} is a circle of links") from problem
    except OSError as problem:
        why = "a circle of links" if problem.errno == 40 else (problem.strerror or "it cannot be read")
        raise NotAProgram(f"{_shown(path)} cannot be read: {why}") from problem


def _shown(path: Path) -> str:
    """A path as text; bytes that are no UTF-8 as escapes."""
    return os.fsencode(path).decode(errors="backslashreplace")


def _what(mode: int) -> str:
    kinds = {stat.S_IFDIR: "a folder", stat.S_IFIFO: "a pipe", stat.S_IFSOCK: "a socket"}
    return kinds.get(stat.S_IFMT(mode), "a device")


def _digest(file: Any, begin: bytes, size: int, problems: list[str]) -> str | None:
    if size > MOST_HASHED:
        problems.append(f"it is bigger than {MOST_HASHED // 10**9} GB, so no SHA-256 is made of it")
        return None
    seen = hashlib.sha256(begin)
    left = MOST_HASHED
    while left > 0 and (chunk := file.read(_CHUNK)):
        seen.update(chunk)
        left -= len(chunk)
    return seen.hexdigest()
