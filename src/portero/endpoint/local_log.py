"""What was stopped and changed on this machine, for who stands before it: kept here, and in the system's journal."""

from __future__ import annotations

import logging
import logging.handlers
from collections import deque
from collections.abc import Iterator
from contextlib import suppress
from datetime import datetime
from pathlib import Path

import msgspec

from portero.endpoint.folder import Folder
from portero.formats.owned_files import make_owned

LOG = "log.jsonl"
MOST_BYTES = 1_000_000
"""Once longer, the log is put aside under another name, in place of the one before."""
_SYSLOG = Path("/dev/log")


class LogEntry(msgspec.Struct, frozen=True):
    """One thing that happened. `at` is RFC 3339 in UTC."""

    at: str
    what: str
    text: str


_ENTRY = msgspec.json.Decoder(LogEntry)


class LocalLog:
    """The log of an endpoint, a JSON document a line. What cannot be written is lost: it keeps nothing from working."""

    def __init__(self, folder: Folder) -> None:
        self._path = folder.path / LOG
        self._journal = _journal()

    def note(self, at: datetime, what: str, text: str) -> None:
        """Note something. `what` is one word: stopped, warned, found, ended (of programs that ran), applied, written,
        removed, tampered, unwritten; undecided, unguarded, restarted (of the guard).
        """
        entry = LogEntry(at.isoformat(timespec="seconds").replace("+00:00", "Z"), what, text)
        with suppress(OSError):
            make_owned(self._path.parent)
            if self._path.exists() and self._path.stat().st_size > MOST_BYTES:
                self._path.replace(self._aside)
            with self._path.open("ab") as file:
                file.write(msgspec.json.encode(entry) + b"\n")
        if self._journal is not None:
            self._journal.info("%s: %s", what, text)

    @property
    def _aside(self) -> Path:
        return self._path.with_name(self._path.name + ".1")

    def entries(self, last: int) -> list[LogEntry]:
        """The last entries, the oldest first."""
        return list(deque(self._all(), maxlen=last))

    def _all(self) -> Iterator[LogEntry]:
        for path in (self._aside, self._path):
            with suppress(FileNotFoundError), path.open("rb") as file:
                for line in file:
                    # a line that broke off where the disk was full says nothing
                    with suppress(msgspec.MsgspecError):
                        yield _ENTRY.decode(line)


def _journal() -> logging.Logger | None:
    """The system's own log, where it has one."""
    if not _SYSLOG.exists():
        return None
    journal = logging.getLogger("portero-endpoint")
    journal.setLevel(logging.INFO)
    journal.propagate = False
    if not journal.handlers:
        with suppress(OSError):
            handler = logging.handlers.SysLogHandler(str(_SYSLOG))
            handler.ident = "portero-endpoint: "
            journal.addHandler(handler)
    return journal
