"""Programs that are always allowed to start: without them a machine could neither run nor be mended."""

from __future__ import annotations

import re
from typing import NamedTuple

from portero.core.nouns.device import Application


class Essential(NamedTuple):
    """One program, by its exact path, and what it is for."""

    path: str
    purpose: str


_SYSTEM = r"C:\Windows\System32"
ESSENTIALS = (
    Essential("/opt/portero/bin/portero-endpoint", "the endpoint itself"),
    Essential(r"C:\Program Files\Portero\portero-endpoint.exe", "the endpoint itself"),
    Essential("/sbin/init", "the first process of the system"),
    Essential("/lib/systemd/systemd", "the first process of the system"),
    Essential("/usr/lib/systemd/systemd", "the first process of the system"),
    Essential("/usr/lib/systemd/systemd-logind", "signing in"),
    Essential("/sbin/launchd", "the first process of the system"),
    *(
        Essential(rf"{_SYSTEM}\{file}", "the system's own start and sign-in")
        for file in ("smss.exe", "csrss.exe", "wininit.exe", "winlogon.exe", "services.exe", "lsass.exe", "svchost.exe")
    ),
)
"""The whole list. It names exact paths, where only the system's own installer writes: a file's name proves nothing."""

_WINDOWS_PATH = re.compile(r"^([A-Za-z]:[\\/]|\\\\)")


def normal_program_path(path: str) -> str:
    """The path in the form in which it is compared: as it is, but that Windows paths fold case and slashes."""
    return path.replace("/", "\\").casefold() if _WINDOWS_PATH.match(path) else path


_PATHS = frozenset(normal_program_path(essential.path) for essential in ESSENTIALS)


def is_essential(program: Application) -> bool:
    """Whether the program is on the list."""
    return program.path is not None and normal_program_path(program.path) in _PATHS
