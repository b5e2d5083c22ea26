"""Rows on their way into an index, sorted by host on disk: memory stays small however many there are."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Self


class Gathering:
    """A file of its own, thrown away afterwards."""

    def __init__(self, path: Path) -> None:
        self._path = path
        path.unlink(missing_ok=True)
        self._db = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
        self._db.executescript(
            "PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF; PRAGMA cache_size = -32000; PRAGMA temp_store = FILE;"
            "CREATE TABLE line (host TEXT NOT NULL, value INTEGER NOT NULL, day INTEGER) STRICT; BEGIN"
        )

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_exception: object) -> None:
        self._db.close()
        with suppress(FileNotFoundError):
            self._path.unlink()

    def add(self, rows: Iterable[tuple[str, int, int | None]]) -> None:
        """Take rows in: a host, a number that stands for its value, and a day."""
        self._db.executemany("INSERT INTO line (host, value, day) VALUES (?, ?, ?)", rows)

    def sorted(self) -> Iterator[tuple[str, int, int | None]]:
        """All rows by host."""
        self._db.execute("COMMIT")
        yield from self._db.execute("SELECT host, value, day FROM line ORDER BY host")
