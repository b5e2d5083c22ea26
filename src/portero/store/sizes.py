"""How much is kept: rows of tables that grow, and the file."""

from __future__ import annotations

import sqlite3
from pathlib import Path

COUNTED = ("device", "class", "bundle", "overlay", "revision")
"""Those that are counted in no time. What machines report is in the file's size."""


def rows(connection: sqlite3.Connection) -> dict[str, int]:
    """How many rows the tables have, by name."""
    return {table: int(connection.execute(f"SELECT count(*) FROM {table}").fetchone()[0]) for table in COUNTED}


def file_bytes(path: Path) -> int:
    """The size of the store's file, with what has not been put into it yet."""
    files = (path, path.with_name(path.name + "-wal"))
    return sum(file.stat().st_size for file in files if file.exists())
