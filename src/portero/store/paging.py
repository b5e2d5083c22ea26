"""Pages by cursor: a keyset over one sort column and an id, so that a page costs the same however deep."""

from __future__ import annotations

import base64
import binascii
import json
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any


class BadCursor(ValueError):
    """The cursor was not made by this list, or for another order."""


@dataclass(frozen=True)
class Query:
    """A list: what to select, from where, under which conditions, in which order. All names are our own, not input."""

    select: str
    source: str
    where: Sequence[str]
    values: dict[str, Any]
    sort: str
    descending: bool
    id: str
    counted: str | None = None
    """From where to count, if that is quicker than from `source`."""


@dataclass(frozen=True)
class Rows:
    """One page of rows, the cursor of the next one, and how many rows there are on all pages."""

    rows: list[sqlite3.Row]
    next: str | None
    total: int


def encode_cursor(order: str, value: Any, identity: Any) -> str:
    """A cursor as text that is safe in an address."""
    return base64.urlsafe_b64encode(json.dumps([order, value, identity]).encode()).decode().rstrip("=")


def decode_cursor(cursor: str, order: str) -> tuple[Any, Any]:
    """The sort value and id in a cursor. BadCursor where it is none of this order."""
    try:
        parts = json.loads(base64.urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4)))
        made_for, value, identity = parts
    except (binascii.Error, ValueError, TypeError) as problem:
        raise BadCursor("the cursor is damaged; begin again without one") from problem
    plain = all(_is_plain(part) for part in (value, identity))
    if made_for != order or not plain:
        raise BadCursor("the cursor belongs to another order of this list; begin again without one")
    return value, identity


def _is_plain(part: object) -> bool:
    """Whether SQLite can hold it; whole numbers have up to 64 bits there."""
    if isinstance(part, str):
        # half a character (RFC 8259, 8.2) cannot be written as UTF-8
        return not any("\ud800" <= letter <= "\udfff" for letter in part)
    return abs(part) < 2**63 if isinstance(part, int) else part is None or isinstance(part, float)


def page(
    connection: sqlite3.Connection, query: Query, cursor: str | None, limit: int, total: int | None = None
) -> Rows:
    """One page of a list. A missing sort value sorts as the empty one. `total` is counted where it is not known."""
    order = f"{query.sort}{'-' if query.descending else '+'}"
    values = dict(query.values, limit_=limit + 1)
    conditions = list(query.where)
    if total is None:
        counting = f"SELECT count(*) FROM {query.counted or query.source}" + _where(conditions)
        total = int(connection.execute(counting, query.values).fetchone()[0])
    if cursor:
        values["value_"], values["identity_"] = decode_cursor(cursor, order)
        compare = "<" if query.descending else ">"
        conditions.append(f"({query.sort}, {query.id}) {compare} (:value_, :identity_)")
    direction = "DESC" if query.descending else "ASC"
    rows = connection.execute(
        f"SELECT {query.select}, {query.sort} AS sort_, {query.id} AS id_ FROM {query.source}{_where(conditions)}"
        f" ORDER BY {query.sort} {direction}, {query.id} {direction} LIMIT :limit_",
        values,
    ).fetchall()
    more = len(rows) > limit
    rows = rows[:limit]
    following = encode_cursor(order, rows[-1]["sort_"], rows[-1]["id_"]) if more else None
    return Rows(rows, following, total)


def _where(conditions: Sequence[str]) -> str:
    return " WHERE " + " AND ".join(conditions) if conditions else ""


def like_pattern(text: str) -> str:
    """A LIKE pattern (ESCAPE '\\') for values that contain the text."""
    escaped = text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    return f"%{escaped}%"
