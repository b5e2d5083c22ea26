"""Which browsers are installed on this machine, and which of them run."""

from __future__ import annotations

import re
import shutil
import subprocess
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

import psutil

from portero.core.nouns.coverage import BrowserFamily

_SECONDS = 10.0


class Installed(NamedTuple):
    """A browser on this machine."""

    family: BrowserFamily
    program: Path
    """What starts it."""
    version: str | None

    @property
    def name(self) -> str:
        """As the coverage table and facts name it."""
        return self.family


class _Known(NamedTuple):
    """How a family's browsers are found: what starts one, what then runs, and what its helpers are called with."""

    programs: tuple[str, ...]
    processes: frozenset[str]
    of_helpers: str


_KNOWN: dict[BrowserFamily, _Known] = {
    "chromium": _Known(("chromium",), frozenset(("chromium",)), "--type="),
    "firefox": _Known(("firefox-esr", "firefox"), frozenset(("firefox-esr", "firefox", "firefox-bin")), "-contentproc"),
}


def installed_browsers() -> list[Installed]:
    """The browsers that can be started here, by their own word of what they are."""
    found = []
    for family, known in _KNOWN.items():
        program = next(filter(None, map(shutil.which, known.programs)), None)
        if program is not None:
            found.append(Installed(family, Path(program), _version(program)))
    return found


def _version(program: str) -> str | None:
    with suppress(OSError, subprocess.SubprocessError):
        asked = subprocess.run([program, "--version"], capture_output=True, text=True, timeout=_SECONDS, check=False)
        version = re.search(r"\b\d+(\.\d+)+", asked.stdout)
        return version.group() if version else None
    return None


def running_since(family: BrowserFamily) -> list[float]:
    """When each running browser of a family was started, in seconds since 1970; its helpers do not count."""
    known, started = _KNOWN[family], []
    for process in psutil.process_iter():
        with suppress(psutil.Error, OSError):
            # the name is read first: most processes are none, and need no more
            if process.name() not in known.processes:
                continue
            if not any(word.startswith(known.of_helpers) for word in process.cmdline()):
                started.append(process.create_time())
    return started
