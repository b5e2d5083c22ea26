"""What is too old to be kept, dropped in small steps; and what was compiled and nobody holds any more."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection
from typing import Any, NamedTuple

from portero.store.database import Writer
from portero.store.words import forget_words

STEP = 4_000
"""So many rows are looked at in one step."""


class Walk(NamedTuple):
    """A walk through a table by its primary key: the columns of the key, and the one that says how old a row is."""

    table: str
    key: tuple[str, ...]
    age: str


VISITS = (
    Walk("visit_count", ("device", "hour", "host"), "hour"),
    Walk("activity_hour", ("hour", "host", "program", "rule", "verdict"), "hour"),
    Walk("host_seen", ("host", "device"), "last"),
    Walk("start_day", ("version", "day"), "day"),
    Walk("start_person", ("version", "person"), "last"),
    Walk("start_device", ("version", "device"), "last"),
)
FACTS = Walk("earlier_facts", ("device", "at"), "at")


def prune_activity(connection: sqlite3.Connection, before: float) -> int:
    """Drop attempts that are older, the oldest first, a step of them; returns how many."""
    return connection.execute(
        "DELETE FROM activity WHERE (device, seq) IN"
        " (SELECT device, seq FROM activity WHERE at < ? ORDER BY at LIMIT ?)",
        (before, STEP),
    ).rowcount


def prune_days(connection: Writer, before: float) -> None:
    """Drop the counts of days that are older, and the words that nothing has said since."""
    connection.execute("DELETE FROM activity_day WHERE day < ?", (before,))
    forget_words(connection, before)


def prune_walking(
    connection: sqlite3.Connection, walk: Walk, after: tuple[Any, ...] | None, before: float
) -> tuple[Any, ...] | None:
    """Look through a step of a table from behind a key, and drop what is older; the last key that was looked at, None
    at the end of the table. (An index by age would cost every write more than this does.)
    """
    columns = ", ".join(walk.key)
    marks = ", ".join("?" * len(walk.key))
    where, values = (f"WHERE ({columns}) > ({marks})", after) if after is not None else ("", ())
    step = f"SELECT {columns} FROM {walk.table} {where} ORDER BY {columns} LIMIT {STEP}"
    last = connection.execute(
        f"SELECT {columns} FROM ({step}) ORDER BY {', '.join(f'{column} DESC' for column in walk.key)} LIMIT 1", values
    ).fetchone()
    if last is None:
        return None
    connection.execute(f"DELETE FROM {walk.table} WHERE ({columns}) IN ({step}) AND {walk.age} < ?", (*values, before))
    return tuple(last)


def collect_compiled(connection: sqlite3.Connection, before: float) -> int:
    """Drop overlays and bundles made before that no device should have or says it has; returns how many."""
    overlays = connection.execute(
        "DELETE FROM overlay WHERE made_at < ? AND digest NOT IN (SELECT digest FROM device_overlay)"
        " AND digest NOT IN (SELECT applied_bundle FROM device WHERE applied_bundle IS NOT NULL)",
        (before,),
    ).rowcount
    bundles = connection.execute(
        "DELETE FROM bundle WHERE made_at < ? AND digest NOT IN (SELECT digest FROM class)"
        " AND digest NOT IN (SELECT bundle FROM overlay)"
        " AND digest NOT IN (SELECT applied_bundle FROM device WHERE applied_bundle IS NOT NULL)",
        (before,),
    ).rowcount
    return overlays + bundles


def compiled(connection: sqlite3.Connection) -> list[str]:
    """The digests of all bundles and overlays that are kept."""
    return [row[0] for row in connection.execute("SELECT digest FROM bundle UNION ALL SELECT digest FROM overlay")]


def collect_parts(connection: sqlite3.Connection, named: Collection[str], before: float) -> int:
    """Drop parts made before that are not among those named; returns how many."""
    old = (row[0] for row in connection.execute("SELECT digest FROM part WHERE made_at < ?", (before,)).fetchall())
    gone = [(digest,) for digest in old if digest not in named]
    connection.executemany("DELETE FROM part WHERE digest = ?", gone)
    return len(gone)
