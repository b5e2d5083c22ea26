"""Which package of the system's own (dpkg) a program belongs to, from its database."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from portero.core.nouns.program import ProgramCategory

DATABASE = Path("/var/lib/dpkg")
MOST_BYTES = 200_000_000
_MAINTAINER = re.compile(r"\s*<[^>]*>\s*$")
_SECTIONS = {
    "devel": ProgramCategory.DEVELOPER_TOOLS,
    "editors": ProgramCategory.TEXT_EDITOR,
    "games": ProgramCategory.GAMES,
    "graphics": ProgramCategory.IMAGING,
    "interpreters": ProgramCategory.DEVELOPER_TOOLS,
    "mail": ProgramCategory.MAIL,
    "sound": ProgramCategory.MEDIA,
    "vcs": ProgramCategory.DEVELOPER_TOOLS,
    "video": ProgramCategory.MEDIA,
}
"""What the programs of a section of the archive are for, where that is plain."""


class Package(NamedTuple):
    """An installed package: its name, its version without epoch and revision, who keeps it, what it is for."""

    name: str
    version: str | None
    maintainer: str | None
    category: ProgramCategory | None


class PackageOwners:
    """Finds the package that owns a program. The database is read once, when first asked."""

    def __init__(self, database: Path = DATABASE) -> None:
        self._database = database
        self._owners: dict[str, str] | None = None
        self._packages: dict[str, Package] = {}

    def owner_of(self, path: Path) -> Package | None:
        """The package that a file belongs to, by its real path."""
        if self._owners is None:
            self._packages = {package.name: package for package in _packages(self._database / "status")}
            self._owners = dict(_owners(self._database / "info"))
        name = self._owners.get(str(path))
        return self._packages.get(name) if name else None


def _packages(status: Path) -> Iterator[Package]:
    for paragraph in _text(status).split("\n\n"):
        fields = dict(
            line.split(": ", 1) for line in paragraph.splitlines() if ": " in line and not line.startswith(" ")
        )
        if "Package" in fields:
            section = fields.get("Section", "").rpartition("/")[2]
            maintainer = _MAINTAINER.sub("", fields.get("Maintainer", ""))[:255]
            version = upstream(fields.get("Version", ""))[:255]
            yield Package(fields["Package"], version or None, maintainer or None, _SECTIONS.get(section))


def upstream(version: str) -> str:
    """A package's version without epoch and revision: “1:7.88.1-10+deb12u5” is 7.88.1."""
    without_epoch = version.rpartition(":")[2]
    return without_epoch.rpartition("-")[0] or without_epoch


def _owners(info: Path) -> Iterator[tuple[str, str]]:
    for listing in sorted(info.glob("*.list")):
        name = listing.name.removesuffix(".list").partition(":")[0]
        for line in _text(listing).splitlines():
            # older packages name places that are links by now: /bin is /usr/bin
            yield line, name
            if line.startswith(("/bin/", "/sbin/", "/lib/")):
                yield f"/usr{line}", name


def _text(path: Path) -> str:
    try:
        with path.open("rb") as file:
            return file.read(MOST_BYTES).decode(errors="replace")
    except OSError:
        return ""
