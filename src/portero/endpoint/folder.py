"""What an endpoint keeps in its folder: its credential, the last good bundle, and the activity not handed over yet."""

from __future__ import annotations

import errno
import json
import shutil
import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path

import msgspec

from portero.core.nouns.activity import ActivityBatch, HourlyCount, ReportedAttempt, StartCount
from portero.core.nouns.device import Application
from portero.formats.owned_files import make_owned, write_owned

MOST_KEPT = 50_000
"""Attempts kept while the service cannot be reached; the oldest go first."""
BATCH = 500


class Identity(msgspec.Struct):
    """Who the device is to the service. The signing key is pinned when it joins."""

    service: str
    device: str
    credential: str
    signing_key: str
    facts: dict[str, object]


_OWN = (
    *("device.json", "manifest.jws", "newest.json", "people.json", "until-restart.json", "policy-files.json"),
    *("running.json", "inventory.json", "log.jsonl*", "activity.sqlite3*", "bundles", "overlays", "parts", "index"),
)
"""What an endpoint keeps in its folder, as patterns of names."""


class NotJoined(RuntimeError):
    """The folder holds no device that has joined."""


class Folder:
    """An endpoint's folder, readable by its owner only."""

    def __init__(self, path: Path) -> None:
        self.path = path
        make_owned(path)

    @property
    def joined(self) -> bool:
        """Whether a device has joined from here."""
        return (self.path / "device.json").exists()

    def identity(self) -> Identity:
        """The device's identity. NotJoined where there is none."""
        try:
            return msgspec.json.decode((self.path / "device.json").read_bytes(), type=Identity)
        except FileNotFoundError:
            raise NotJoined(f"nothing has joined from {self.path}; run “portero-endpoint join” first") from None
        except msgspec.MsgspecError as problem:
            raise NotJoined(f"{self.path / 'device.json'} is damaged ({problem}); join again") from problem

    def keep_identity(self, identity: Identity) -> None:
        """Keep the identity, readable by its owner only."""
        self.write("device.json", msgspec.json.encode(identity))

    def write(self, name: str, data: bytes) -> None:
        """Write a file so that a kill at any moment leaves the old one or the new one."""
        write_owned(self.path / name, data)

    def read(self, name: str) -> bytes | None:
        """A file's bytes, or None."""
        try:
            return (self.path / name).read_bytes()
        except FileNotFoundError:
            return None

    def drop_others(self, folder: str, *keep: str) -> None:
        """Remove all files of a sub-folder but some, and but what another process may be writing there just now."""
        for file in (self.path / folder).glob("*"):
            if file.name not in keep and not _is_under_way(file):
                file.unlink(missing_ok=True)

    def forget(self) -> None:
        """Remove all that an endpoint keeps here, and nothing else."""
        for pattern in (*_OWN, *(f"{own}.*.new" for own in _OWN)):
            for kept in self.path.glob(pattern):
                shutil.rmtree(kept) if kept.is_dir() else kept.unlink()

    def part(self, name: str) -> Path:
        """Where a big file is gathered, piece by piece, until it is whole; what came before a break is there still."""
        part = self.path / (name + ".part")
        make_owned(part.parent)
        return part


UNDER_WAY_SECONDS = 600.0


def _is_under_way(file: Path) -> bool:
    """Whether a file is not whole yet, and was written to lately."""
    if file.suffix not in (".new", ".part"):
        return False
    try:
        return time.time() - file.stat().st_mtime < UNDER_WAY_SECONDS
    except FileNotFoundError:
        return True


_SCHEMA = """
CREATE TABLE IF NOT EXISTS attempt (seq INTEGER PRIMARY KEY AUTOINCREMENT, document TEXT NOT NULL) STRICT;
CREATE TABLE IF NOT EXISTS visits (hour TEXT NOT NULL, host TEXT NOT NULL, number INTEGER NOT NULL,
  PRIMARY KEY (hour, host)) STRICT;
CREATE TABLE IF NOT EXISTS starts (hour TEXT NOT NULL, program TEXT NOT NULL, user TEXT NOT NULL,
  number INTEGER NOT NULL, PRIMARY KEY (hour, program, user)) STRICT;
CREATE TABLE IF NOT EXISTS outbox (batch INTEGER PRIMARY KEY AUTOINCREMENT, document TEXT NOT NULL) STRICT;
"""


def _hour(at: datetime) -> str:
    return at.replace(minute=0, second=0, microsecond=0).isoformat()


def told_of(problem: OSError) -> str:
    """Why a file could not be read or written, in words."""
    if problem.errno == errno.ENOSPC:
        return "there is no room left on its disk"
    return problem.strerror or type(problem).__name__


_DAMAGED = (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB)
_OF_THE_FILE = (sqlite3.OperationalError, sqlite3.DatabaseError)
"""What SQLite raises where the file cannot be written or read; what is below these is about a statement."""


def _opened(path: Path | str) -> sqlite3.Connection:
    """The queue's file, made where there is none. sqlite3.DatabaseError where it cannot be used."""
    opened = sqlite3.connect(path, isolation_level=None, timeout=10)
    try:
        opened.execute("PRAGMA journal_mode = WAL")
        opened.execute("PRAGMA synchronous = NORMAL")
        opened.executescript(_SCHEMA)
        if (found := opened.execute("PRAGMA quick_check(1)").fetchone()[0]) != "ok":
            damaged = sqlite3.DatabaseError(found)
            damaged.sqlite_errorcode = sqlite3.SQLITE_CORRUPT
            raise damaged
    except BaseException:
        opened.close()
        raise
    return opened


def _numbered(opened: sqlite3.Connection) -> sqlite3.Connection:
    """Numbers go on beyond all that were given before, wherever that was kept: they count milliseconds from now."""
    number = int(time.time() * 1000)
    started = [("attempt", number), ("outbox", number)]
    opened.executemany("INSERT INTO sqlite_sequence (name, seq) VALUES (?, ?)", started)
    return opened


class Queue:
    """Activity on its way: recorded at once, handed over in numbered batches that stay the same when sent again.

    It never keeps a machine from enforcing: what cannot be recorded is counted as lost, and told; a file that is
    damaged is put aside, and another one begun.
    """

    def __init__(self, folder: Folder) -> None:
        self._path = folder.path / "activity.sqlite3"
        self._lost, self._fault = 0, ""
        self._damaged = self._in_memory = False
        self._db = self._open()

    def _open(self) -> sqlite3.Connection:
        try:
            return _opened(self._path)
        except sqlite3.DatabaseError as problem:
            self._fault = str(problem)
            self._damaged = getattr(problem, "sqlite_errorcode", 0) in _DAMAGED
        try:
            if self._damaged:
                return self._begun_anew()
        except (sqlite3.Error, OSError) as problem:
            self._fault = str(problem)
        self._in_memory = True
        return _numbered(_opened(":memory:"))

    def _begun_anew(self) -> sqlite3.Connection:
        """A new file; the damaged one stays beside it."""
        for suffix in ("-wal", "-shm"):
            self._path.with_name(self._path.name + suffix).unlink(missing_ok=True)
        self._path.replace(self._path.with_name(self._path.name + ".damaged"))
        return _numbered(_opened(self._path))

    @property
    def problem(self) -> str | None:
        """What went wrong since it was told last."""
        if self._in_memory:
            return f"activity cannot be kept on this machine's disk ({self._fault}); it is in memory only"
        if self._damaged:
            return "the activity kept on this machine was damaged; what had not been handed over is lost"
        if self._lost:
            return f"{self._lost} entries of activity could not be kept on this machine: {self._fault}"
        return None

    def told(self) -> None:
        """The problem has been told."""
        self._damaged, self._lost = False, 0

    @contextmanager
    def _changing(self) -> Iterator[None]:
        self._db.execute("BEGIN IMMEDIATE")
        try:
            yield
            self._db.execute("COMMIT")
        except BaseException:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise

    @contextmanager
    def _losing(self) -> Iterator[None]:
        """What cannot be written is lost, and counted."""
        try:
            yield
        except sqlite3.DatabaseError as problem:
            if type(problem) not in _OF_THE_FILE:
                raise
            self._lost, self._fault = self._lost + 1, str(problem)

    def record(self, attempt: ReportedAttempt) -> None:
        """Record an attempt; it is given its number here."""
        with self._losing(), self._changing():
            seq = self._db.execute("INSERT INTO attempt (document) VALUES ('{}')").lastrowid
            numbered = attempt.model_copy(update={"seq": seq})
            document = numbered.model_dump_json(exclude_none=True)
            self._db.execute("UPDATE attempt SET document = ? WHERE seq = ?", (document, seq))
            self._db.execute("DELETE FROM attempt WHERE seq <= ?", (seq - MOST_KEPT if seq else 0,))

    def count(self, host: str, at: datetime) -> None:
        """Count an allowed visit in its hour."""
        with self._losing():
            self._db.execute(
                "INSERT INTO visits (hour, host, number) VALUES (?, ?, 1)"
                " ON CONFLICT (hour, host) DO UPDATE SET number = number + 1",
                (_hour(at), host),
            )

    def count_start(self, program: Application, user: str | None, at: datetime, starts: int = 1) -> None:
        """Count starts that nothing refused in their hour."""
        with self._losing():
            self._db.execute(
                "INSERT INTO starts (hour, program, user, number) VALUES (?, ?, ?, ?)"
                " ON CONFLICT (hour, program, user) DO UPDATE SET number = number + excluded.number",
                (_hour(at), program.model_dump_json(exclude_none=True), user or "", starts),
            )

    def next_batch(self) -> str | None:
        """The batch to send now as JSON: one not acknowledged yet, else a new one; None where all is sent."""
        row = self._db.execute("SELECT document FROM outbox ORDER BY batch LIMIT 1").fetchone()
        if row:
            return str(row[0])
        with self._changing():
            attempts = self._db.execute("SELECT seq, document FROM attempt ORDER BY seq LIMIT ?", (BATCH,)).fetchall()
            counts = self._db.execute("SELECT hour, host, number FROM visits LIMIT ?", (BATCH,)).fetchall()
            starts = self._db.execute("SELECT hour, program, user, number FROM starts LIMIT ?", (BATCH,)).fetchall()
            if not attempts and not counts and not starts:
                return None
            number = self._db.execute("INSERT INTO outbox (document) VALUES ('')").lastrowid
            batch = ActivityBatch(
                batch=number or 1,
                attempts=tuple(ReportedAttempt.model_validate(json.loads(document)) for _, document in attempts),
                counts=tuple(HourlyCount(hour=hour, host=host, visits=n) for hour, host, n in counts),
                starts=tuple(
                    StartCount(hour=hour, program=json.loads(program), user=user or None, starts=n)
                    for hour, program, user, n in starts
                ),
            )
            document = batch.model_dump_json(exclude_none=True)
            self._db.execute("UPDATE outbox SET document = ? WHERE batch = ?", (document, number))
            if attempts:
                self._db.execute("DELETE FROM attempt WHERE seq <= ?", (attempts[-1][0],))
            self._db.executemany("DELETE FROM visits WHERE hour = ? AND host = ?", [row[:2] for row in counts])
            self._db.executemany(
                "DELETE FROM starts WHERE hour = ? AND program = ? AND user = ?", [row[:3] for row in starts]
            )
        return document

    def acknowledged(self, batch: int) -> None:
        """The service has the batch."""
        self._db.execute("DELETE FROM outbox WHERE batch <= ?", (batch,))

    def waiting(self) -> int:
        """How many attempts are not handed over yet."""
        on_their_way = "SELECT coalesce(sum(json_array_length(document, '$.attempts')), 0) FROM outbox"
        row = self._db.execute(f"SELECT (SELECT count(*) FROM attempt) + ({on_their_way})").fetchone()
        return int(row[0])

    def close(self) -> None:
        """Close the queue's file."""
        self._db.close()
