"""What can be seen of a running Chromium from outside."""

from __future__ import annotations

import time
from pathlib import Path


def await_watch(folder: Path, seconds: float = 90) -> None:
    """Until a Chromium watches its policy folder; it waits with that until its first page has come to rest.

    The kernel tells which folders a process watches (proc_pid_fdinfo(5)). AssertionError where none does.
    """
    inode, deadline = f" ino:{folder.stat().st_ino:x} ", time.monotonic() + seconds
    while not any(inode in _inotify(process) for process in Path("/proc").glob("[0-9]*") if _is_chromium(process)):
        assert time.monotonic() < deadline, f"no Chromium watches {folder}"
        time.sleep(0.2)


def _is_chromium(process: Path) -> bool:
    try:
        return process.joinpath("comm").read_text().startswith("chrom")
    except OSError:
        return False


def _inotify(process: Path) -> str:
    told = []
    try:
        for one in process.joinpath("fdinfo").iterdir():
            told.append(one.read_text())
    except OSError:
        return ""  # it ended meanwhile
    return "".join(told)
