"""Whether an endpoint runs from a folder, for other commands on the same machine."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import msgspec
import psutil

from portero.endpoint.folder import Folder

_NOTE = "running.json"


class Running(msgspec.Struct, frozen=True):
    """The endpoint that runs: its process, the loopback port of its filter, and where its browser policies are."""

    pid: int
    started: float
    port: int
    browser_policies: str | None


_RUNNING = msgspec.json.Decoder(Running)


@contextmanager
def running_here(folder: Folder, port: int, browser_policies: Path | None) -> Iterator[None]:
    """Says so for as long as the block lasts. Where it cannot be written nobody is told."""
    own = psutil.Process()
    root = str(browser_policies.resolve()) if browser_policies else None
    with suppress(OSError):
        folder.write(_NOTE, msgspec.json.encode(Running(os.getpid(), own.create_time(), port, root)))
    try:
        yield
    finally:
        with suppress(OSError):
            (folder.path / _NOTE).unlink(missing_ok=True)


def running_in(folder: Folder) -> Running | None:
    """The endpoint that runs from a folder; a note that one left behind as it was killed says nothing."""
    try:
        noted = _RUNNING.decode(folder.read(_NOTE) or b"")
        if abs(psutil.Process(noted.pid).create_time() - noted.started) < 2:
            return noted
    except (msgspec.MsgspecError, OSError, psutil.Error):
        pass
    return None
