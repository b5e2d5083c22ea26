"""One SQLite file: opening, migrating, one writer beside many readers."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import closing, contextmanager
from importlib import resources
from pathlib import Path
from typing import Any, TypeVar

BUSY_SECONDS = 10.0
_STEPS = sorted(
    (step for step in (resources.files("portero.store") / "schema").iterdir() if step.name.endswith(".sql")),
    key=lambda step: step.name,
)
SCHEMA = len(_STEPS)
"""The newest schema, by the number of steps to it."""


class StoreProblem(RuntimeError):
    """The store cannot be used; the message says why and what to do."""


class StoreFull(StoreProblem):
    """The disk is full: nothing was changed, and reading goes on."""


class StoreDamaged(StoreProblem):
    """The file is not what was written to it."""


def problem_of(problem: BaseException, path: Path) -> StoreProblem | None:
    """What SQLite says of its file, in words; None where it speaks of a statement."""
    # an extended code has the plain one in its low byte
    code = getattr(problem, "sqlite_errorcode", 0) & 0xFF
    if code == sqlite3.SQLITE_FULL:
        return StoreFull(f"no room left on the disk of {path}; nothing was changed. Make room and try again")
    if code in (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB):
        return StoreDamaged(
            f"{path} is damaged ({problem}); stop the service and put a backup in its place:"
            f" portero backup restore FILE --data {path.parent}"
        )
    if code in (sqlite3.SQLITE_READONLY, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_CANTOPEN):
        return StoreProblem(f"{path} cannot be read or written ({problem}); look at its disk and its owner")
    return None


class Writer(sqlite3.Connection):
    """The writing connection, and what it remembers of rows, so that it need not look for them each time."""

    words: dict[tuple[str, str], tuple[int, int]]
    """Ids and days of words of activity (`store.words`)."""
    version: int
    """The version of the file that this is of: another, where another process has written (`PRAGMA data_version`)."""

    def forget(self) -> None:
        """Remember nothing: rows may be others than they were."""
        self.words, self.version = {}, -1

    @contextmanager
    def apart(self) -> Iterator[None]:
        """What is done within is undone where it raises, and nothing else of the transaction."""
        self.execute("SAVEPOINT apart")
        try:
            yield
        except BaseException:
            self.execute("ROLLBACK TO apart")
            self.forget()
            raise
        finally:
            self.execute("RELEASE apart")


Kind = TypeVar("Kind", bound=sqlite3.Connection)


class Store:
    """A store in one file. Safe to use from several threads: writes go one at a time, reads beside them."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._write_lock = threading.Lock()
        self._idle: list[sqlite3.Connection] = []
        self._idle_lock = threading.Lock()
        self._watched: list[tuple[set[Any], Callable[[Collection[Any]], None]]] = []
        try:
            self._writer = self._connect(Writer)
            self._writer.forget()
            self._writer.execute("PRAGMA journal_mode = WAL")
            self._migrate()
        except sqlite3.DatabaseError as problem:
            told = problem_of(problem, path) or StoreProblem(f"{path} cannot be opened as a Portero store: {problem}")
            raise told from problem

    def _connect(self, kind: type[Kind]) -> Kind:
        connection = sqlite3.connect(
            self.path, timeout=BUSY_SECONDS, check_same_thread=False, isolation_level=None, factory=kind
        )
        connection.row_factory = sqlite3.Row
        connection.execute("PRAGMA foreign_keys = ON")
        # FULL: what was acknowledged survives a power cut, not only a kill
        connection.execute("PRAGMA synchronous = FULL")
        return connection

    def _migrate(self) -> None:
        have = self._writer.execute("PRAGMA user_version").fetchone()[0]
        if have > SCHEMA:
            raise StoreProblem(
                f"{self.path} was made by a newer Portero (schema {have}, this one knows {SCHEMA}); use that one"
            )
        for number, step in enumerate(_STEPS[have:], start=have + 1):
            script = step.read_text()
            self._writer.executescript(f"BEGIN IMMEDIATE;\n{script}\nPRAGMA user_version = {number};\nCOMMIT;")

    @contextmanager
    def reading(self) -> Iterator[sqlite3.Connection]:
        """A connection for one consistent reading, beside any writer."""
        with self._idle_lock:
            connection = self._idle.pop() if self._idle else self._connect(sqlite3.Connection)
        try:
            connection.execute("BEGIN")
            yield connection
        except sqlite3.DatabaseError as problem:
            if (told := problem_of(problem, self.path)) is not None:
                raise told from problem
            raise
        finally:
            if connection.in_transaction:
                connection.execute("ROLLBACK")
            with self._idle_lock:
                self._idle.append(connection)

    @contextmanager
    def writing(self) -> Iterator[Writer]:
        """The one writing connection, in a transaction: all of it is committed at the end, or nothing."""
        with self._write_lock, self._transaction() as connection:
            yield connection

    @contextmanager
    def writing_if_free(self) -> Iterator[Writer | None]:
        """As `writing`; None, where somebody else writes just now."""
        if not self._write_lock.acquire(blocking=False):
            yield None
            return
        try:
            with self._transaction() as connection:
                yield connection
        finally:
            self._write_lock.release()

    def watch(
        self, table: str, key: str, columns: Sequence[str] | None, tell: Callable[[Collection[Any]], None]
    ) -> None:
        """From now on tell, with their keys, which rows of a table were changed or removed: once that is committed, and
        before whoever did it goes on. With `columns`, only where one of those is another.
        """
        changed: set[Any] = set()
        name = f"watch_{table}_{len(self._watched)}"
        is_other = " OR ".join(f"OLD.{column} IS NOT NEW.{column}" for column in columns or ()) or "TRUE"
        self._writer.create_function(name, 1, changed.add)
        for event, when, row in (("INSERT", "TRUE", "NEW"), ("UPDATE", is_other, "NEW"), ("DELETE", "TRUE", "OLD")):
            self._writer.execute(
                f"CREATE TEMP TRIGGER {name}_{event} AFTER {event} ON main.{table} WHEN {when}"
                f" BEGIN SELECT {name}({row}.{key}); END"
            )
        self._watched.append((changed, tell))

    @contextmanager
    def _transaction(self) -> Iterator[Writer]:
        try:
            self._writer.execute("BEGIN IMMEDIATE")
            yield self._writer
            self._writer.execute("COMMIT")
            for changed, tell in self._watched:
                if changed:
                    tell(changed)
                    changed.clear()
        except BaseException as problem:
            for changed, _ in self._watched:
                changed.clear()
            self._writer.forget()
            if self._writer.in_transaction:
                self._writer.execute("ROLLBACK")
            if (told := problem_of(problem, self.path)) is not None:
                raise told from problem
            raise

    def check(self, patience: float = 2.0) -> None:
        """Read and write, as a change would. StoreProblem. Where somebody writes for longer, the store is at work."""
        with self.reading() as connection:
            connection.execute("SELECT count(*) FROM sqlite_schema").fetchone()
        if not self._write_lock.acquire(timeout=patience):
            return
        try:
            with self._transaction() as connection:
                # the same number again: a page that is really written
                (version,) = connection.execute("PRAGMA user_version").fetchone()
                connection.execute(f"PRAGMA user_version = {version}")
        finally:
            self._write_lock.release()

    def close(self) -> None:
        """Close all connections; what was committed is on disk already."""
        with self._write_lock, self._idle_lock:
            for connection in (*self._idle, self._writer):
                connection.close()
            self._idle.clear()

    def back_up(self, target: Path) -> None:
        """Copy the store into another file while it is in use."""
        with self.reading() as connection, closing(sqlite3.connect(target)) as copy:
            connection.backup(copy)
