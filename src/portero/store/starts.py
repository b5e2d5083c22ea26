"""Starts of programs: how often, by how many people, on which machines. Kept in sums as machines hand them over."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterable
from typing import NamedTuple

from portero.core.nouns.activity import StartCount
from portero.store import catalogue

DAY = 86_400.0
SINCE_DAYS = 14
"""What is told of starts is told of so many days."""


class ProgramUse(NamedTuple):
    """How some versions were used: starts, people by name, folded, and the ids of the machines."""

    starts: int
    people: frozenset[str]
    devices: frozenset[str]


def note_starts(connection: sqlite3.Connection, device: str, counts: Iterable[StartCount], now: float) -> None:
    """Add what a device tells of. The service's time rules: nothing was started later than it was received."""
    for count in counts:
        at = min(count.hour.timestamp(), now)
        version = catalogue.version_id(connection, count.program, now)
        if version is None:
            continue
        connection.execute(
            "INSERT INTO start_day (version, day, starts) VALUES (?, ?, ?)"
            " ON CONFLICT DO UPDATE SET starts = starts + excluded.starts",
            (version, at - at % DAY, count.starts),
        )
        connection.execute(
            "UPDATE program SET starts = starts + ? WHERE id = (SELECT program FROM program_version WHERE id = ?)",
            (count.starts if at >= since(now) else 0, version),
        )
        for table, key, value in (("person", "person", count.user), ("device", "device", device)):
            if value is not None:
                connection.execute(
                    f"INSERT INTO start_{table} (version, {key}, last) VALUES (?, ?, ?)"
                    " ON CONFLICT DO UPDATE SET last = max(last, excluded.last)",
                    (version, value.casefold() if key == "person" else value, at),
                )


def since(now: float, days: int = SINCE_DAYS) -> float:
    """From when on starts are told of: today's, and those of so many days before."""
    return now - now % DAY - days * DAY


def use_of(connection: sqlite3.Connection, versions: Collection[int], from_: float) -> ProgramUse:
    """How versions were used since a moment."""
    asked = (json.dumps(sorted(versions)), from_)
    within = "version IN (SELECT value FROM json_each(?))"
    (starts,) = connection.execute(
        f"SELECT coalesce(sum(starts), 0) FROM start_day WHERE {within} AND day >= ?", asked
    ).fetchone()
    people = connection.execute(f"SELECT DISTINCT person FROM start_person WHERE {within} AND last >= ?", asked)
    devices = connection.execute(f"SELECT DISTINCT device FROM start_device WHERE {within} AND last >= ?", asked)
    return ProgramUse(starts, frozenset(row[0] for row in people), frozenset(row[0] for row in devices))


def recount(connection: sqlite3.Connection, from_: float) -> None:
    """Count anew how often each program was started since a moment: what is longer ago than that goes."""
    connection.execute(
        "UPDATE program SET starts = (SELECT coalesce(sum(start_day.starts), 0) FROM program_version"
        " CROSS JOIN start_day ON start_day.version = program_version.id"
        " WHERE program_version.program = program.id AND day >= ?) WHERE starts > 0",
        (from_,),
    )


def started_on(connection: sqlite3.Connection, devices: Collection[str], from_: float) -> set[int]:
    """The versions that were started on some machines since a moment, by their numbers."""
    rows = connection.execute(
        "SELECT DISTINCT version FROM start_device WHERE device IN (SELECT value FROM json_each(?)) AND last >= ?",
        (json.dumps(sorted(devices)), from_),
    )
    return {row[0] for row in rows}
