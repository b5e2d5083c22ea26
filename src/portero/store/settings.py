"""What a store keeps one of, by name."""

from __future__ import annotations

import sqlite3


def get(connection: sqlite3.Connection, name: str) -> str | None:
    """What is kept under a name."""
    row = connection.execute("SELECT value FROM setting WHERE name = ?", (name,)).fetchone()
    return row[0] if row else None


def put(connection: sqlite3.Connection, name: str, value: str) -> None:
    """Keep it under a name, in place of what was there."""
    connection.execute(
        "INSERT INTO setting (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
        (name, value),
    )
