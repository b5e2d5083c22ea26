"""The file systems of this machine: those that are mounted now, in whichever mount namespace."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

_PROC = Path("/proc")
_WITHOUT_PROGRAMS = frozenset(
    re.findall(
        r"\S+",
        """
        autofs binfmt_misc bpf cgroup cgroup2 configfs debugfs devpts efivarfs fusectl hugetlbfs mqueue nsfs proc pstore
        rpc_pipefs securityfs selinuxfs sysfs tracefs
        """,
    )
)
"""What the kernel shows as files; nothing there can be run."""
MOST_NAMESPACES = 500


class Mounted(NamedTuple):
    """A file system where it can be reached: its number, as the kernel gives it, and its mount point from here."""

    number: str
    place: Path
    kind: str

    @property
    def device(self) -> int:
        """Its number as stat(2) tells it of a file there."""
        major, _, minor = self.number.partition(":")
        return os.makedev(int(major), int(minor))


def mounted(below: Path) -> Iterator[Mounted]:
    """The file system that a folder is on, those mounted below it, and those that only other mount namespaces of the
    machine have below that folder: each once.
    """
    seen: set[str] = set()
    for process in _one_of_each_namespace():
        root = Path("/") if process == "self" else _PROC / process / "root"
        for number, point, kind in _mounts(process):
            above = below == point or point in below.parents
            if number in seen or kind in _WITHOUT_PROGRAMS or not (above or below in point.parents):
                continue
            place = root / point.relative_to("/")
            if above and _number_of(below if process == "self" else root / below.relative_to("/")) != number:
                continue  # another file system is mounted over it, nearer to the folder
            seen.add(number)
            yield Mounted(number, place, kind)


def _number_of(place: Path) -> str | None:
    with suppress(OSError):
        device = place.stat().st_dev
        return f"{os.major(device)}:{os.minor(device)}"
    return None


def _one_of_each_namespace() -> Iterator[str]:
    """A process of each mount namespace, this one's own first."""
    yield "self"
    seen = {_namespace("self")}
    for name in os.listdir(_PROC):
        if name.isdecimal() and (namespace := _namespace(name)) not in seen:
            seen.add(namespace)
            yield name
            if len(seen) > MOST_NAMESPACES:
                return


def _namespace(process: str) -> str:
    with suppress(OSError):
        return os.readlink(_PROC / process / "ns/mnt")
    return ""


def _mounts(process: str) -> Iterator[tuple[str, Path, str]]:
    """As proc_pid_mountinfo(5) has them."""
    with suppress(OSError):
        for line in (_PROC / process / "mountinfo").read_text(errors="surrogateescape").splitlines():
            before, _, after = line.partition(" - ")
            _, _, number, _, point, *_ = before.split(" ")
            yield number, Path(_unescaped(point)), after.partition(" ")[0]


def _unescaped(point: str) -> str:
    for code, letter in (("\\040", " "), ("\\011", "\t"), ("\\012", "\n"), ("\\134", "\\")):
        point = point.replace(code, letter)
    return point
