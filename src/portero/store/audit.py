"""The audit trail in the store: added to, never changed."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from portero.core.nouns.audit import AuditEntry
from portero.core.nouns.base import rfc3339
from portero.formats.audit import digest_of_entry, line_of, written
from portero.store.moments import moment
from portero.store.paging import Query, Rows, page

MOST_LETTERS = 500


def append(connection: sqlite3.Connection, act: str, now: float, **told: Any) -> tuple[int, str]:
    """Add an entry; what is told are fields of `AuditEntry`, None where there is nothing to tell. Returns its number
    and digest.
    """
    newest = connection.execute("SELECT number, digest FROM audit ORDER BY number DESC LIMIT 1").fetchone()
    entry = {
        "number": newest["number"] + 1 if newest else 1,
        "at": rfc3339(moment(now)),
        "act": act,
        "outcome": "done",
        "previous": newest["digest"] if newest else None,
        **told,
    }
    text = written({name: _bounded(value) for name, value in entry.items() if value is not None})
    number, digest = int(entry["number"]), digest_of_entry(text)
    connection.execute(
        "INSERT INTO audit (number, at, by, act, entry, digest) VALUES (?, ?, ?, ?, ?, ?)",
        (number, now, told.get("by"), act, text, digest),
    )
    return number, digest


def _bounded(value: Any) -> Any:
    """A text as the store can hold it: of bounded length, without half characters (RFC 8259, 8.2)."""
    return value[:MOST_LETTERS].encode("utf-8", "replace").decode() if isinstance(value, str) else value


@dataclass(frozen=True)
class AuditFilter:
    """What a list of entries is narrowed to."""

    by: str | None = None
    act: str | None = None
    since: float | None = None


def list_entries(connection: sqlite3.Connection, wanted: AuditFilter, cursor: str | None, limit: int) -> Rows:
    """One page of entries, newest first; map its rows with `entry_of`."""
    conditions = {"by": "by = :by", "act": "act = :act", "since": "at >= :since"}
    values = {name: value for name in conditions if (value := getattr(wanted, name)) is not None}
    query = Query("*", "audit", [conditions[name] for name in values], values, "number", True, "number")
    return page(connection, query, cursor, limit)


def entry_of(row: sqlite3.Row) -> AuditEntry:
    """A row as an entry."""
    return AuditEntry(**json.loads(row["entry"]), digest=row["digest"])


def lines(connection: sqlite3.Connection, after: int) -> Iterator[str]:
    """The lines of all entries after that number, in their order."""
    rows = connection.execute("SELECT entry, digest FROM audit WHERE number > ? ORDER BY number", (after,))
    return (line_of(row["entry"], row["digest"]) for row in rows)
