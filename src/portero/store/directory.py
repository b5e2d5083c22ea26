"""People and their user groups, generation by generation."""

from __future__ import annotations

import sqlite3

from portero.core.nouns.directory import Directory, DirectoryState
from portero.store.moments import moment

KEPT = 5
"""Generations that are kept."""


def newest_directory(connection: sqlite3.Connection) -> DirectoryState | None:
    """The newest generation; None where there never was one."""
    row = connection.execute("SELECT * FROM directory ORDER BY generation DESC LIMIT 1").fetchone()
    if row is None:
        return None
    directory = Directory.model_validate_json(row["document"])
    return DirectoryState(**dict(directory), generation=row["generation"], at=moment(row["at"]), by=row["by"])


def keep_directory(connection: sqlite3.Connection, directory: Directory, by: str, now: float) -> int:
    """Keep a new generation; returns its number."""
    row = connection.execute("SELECT coalesce(max(generation), 0) + 1 FROM directory").fetchone()
    number = int(row[0])
    connection.execute(
        "INSERT INTO directory (generation, at, by, document) VALUES (?, ?, ?, ?)",
        (number, now, by, directory.model_dump_json()),
    )
    connection.execute("DELETE FROM directory WHERE generation <= ?", (number - KEPT,))
    return number
