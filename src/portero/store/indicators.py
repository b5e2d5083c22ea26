"""What came with indicators and cannot be expressed here; and how many there were, day by day."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence

from portero.core.nouns.indicator import SetAside
from portero.formats.stix import LeftOut
from portero.store.moments import moment
from portero.store.paging import Query, Rows, page

MOST_ASIDE, MOST_DOCUMENT = 10_000, 20_000
"""How many are kept for one ruleset or feed, the oldest go first; and how long an object may be to be kept whole."""


def set_aside(connection: sqlite3.Connection, owner: str, asides: Sequence[LeftOut], now: float) -> None:
    """Keep what cannot be expressed, for a ruleset or a feed; an object that is there already is replaced."""
    for aside in asides[-MOST_ASIDE:]:
        id = str(aside.document.get("id", aside.name))[:200]
        document = json.dumps(aside.document)
        if len(document) > MOST_DOCUMENT:
            document = json.dumps({"id": id, "too_long": len(document)})
        connection.execute("DELETE FROM set_aside WHERE owner = ? AND object = ?", (owner, id))
        connection.execute(
            "INSERT INTO set_aside (owner, object, at, name, problem, document) VALUES (?, ?, ?, ?, ?, ?)",
            (owner, id, now, aside.name, aside.problem, document),
        )
    connection.execute(
        "DELETE FROM set_aside WHERE owner = ? AND id NOT IN"
        " (SELECT id FROM set_aside WHERE owner = ? ORDER BY id DESC LIMIT ?)",
        (owner, owner, MOST_ASIDE),
    )


def list_aside(connection: sqlite3.Connection, owner: str, cursor: str | None, limit: int) -> Rows:
    """One page of what is kept aside for a ruleset or a feed, the newest first; map its rows with `aside_of`."""
    query = Query("set_aside.*", "set_aside", ["owner = :owner"], {"owner": owner}, "at", True, "id")
    return page(connection, query, cursor, limit)


def aside_of(row: sqlite3.Row) -> SetAside:
    """A row as what is kept aside."""
    return SetAside(
        name=row["name"], problem=row["problem"], at=moment(row["at"]), document=json.loads(row["document"])
    )


def note_count(connection: sqlite3.Connection, day: int, most: int, by_hand: int, by_feed: int) -> None:
    """How many indicators there are today: on the machines that have most, and in all by origin."""
    connection.execute(
        "INSERT INTO indicator_count (day, most, by_hand, by_feed) VALUES (?, ?, ?, ?)"
        " ON CONFLICT (day) DO UPDATE SET most = excluded.most, by_hand = excluded.by_hand, by_feed = excluded.by_feed",
        (day, most, by_hand, by_feed),
    )


def counts(connection: sqlite3.Connection, since: int) -> list[tuple[int, int]]:
    """The days since one, with how many there were on the machines that had most."""
    rows = connection.execute("SELECT day, most FROM indicator_count WHERE day >= ? ORDER BY day", (since,))
    return [(row["day"], row["most"]) for row in rows]
