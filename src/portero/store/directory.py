"""People and their user groups, generation by generation."""

from __future__ import annotations

import sqlite3

from portero.core.nouns.directory import Directory, DirectoryState, WaitingDirectory
from portero.store.moments import moment

KEPT = 5
"""Generations that are kept."""


def newest_directory(connection: sqlite3.Connection) -> DirectoryState | None:
    """The generation that counts, with the one that waits to be looked at; None where none counts yet."""
    row = connection.execute("SELECT * FROM directory WHERE NOT waits ORDER BY generation DESC LIMIT 1").fetchone()
    if row is None:
        return None
    directory = Directory.model_validate_json(row["document"])
    return DirectoryState(
        **dict(directory),
        generation=row["generation"],
        at=moment(row["at"]),
        by=row["by"],
        waiting=waiting_directory(connection),
    )


def waiting_directory(connection: sqlite3.Connection) -> WaitingDirectory | None:
    """The generation that waits to be looked at, where one does."""
    row = connection.execute("SELECT generation, at, by, people, lost FROM directory WHERE waits").fetchone()
    return WaitingDirectory(**{**dict(row), "at": moment(row["at"])}) if row else None


def keep_directory(
    connection: sqlite3.Connection, directory: Directory, by: str, now: float, *, lost: int, waits: bool
) -> int:
    """Keep a new generation, in place of one that waits; returns its number."""
    connection.execute("DELETE FROM directory WHERE waits")
    row = connection.execute("SELECT coalesce(max(generation), 0) + 1 FROM directory").fetchone()
    number = int(row[0])
    connection.execute(
        "INSERT INTO directory (generation, at, by, document, waits, people, lost) VALUES (?, ?, ?, ?, ?, ?, ?)",
        (number, now, by, directory.model_dump_json(), waits, len(directory.people), lost),
    )
    connection.execute("DELETE FROM directory WHERE generation <= ?", (number - KEPT,))
    return number


def take_waiting(connection: sqlite3.Connection) -> bool:
    """Let the generation that waits count; whether one waited."""
    return connection.execute("UPDATE directory SET waits = 0 WHERE waits").rowcount > 0


def drop_waiting(connection: sqlite3.Connection) -> bool:
    """Drop the generation that waits; whether one waited."""
    return connection.execute("DELETE FROM directory WHERE waits").rowcount > 0
