"""Words that activity says again and again, each kept once, by its kind."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterable

Word = tuple[str, str]
"""Its kind (device, host, person, rule and such) and the word itself."""


def ids_of(connection: sqlite3.Connection, words: Collection[Word], now: float) -> dict[Word, int]:
    """The ids of words that something says now; those that are new are kept."""
    found, today = _known(connection, words), int(now // 86_400)
    stale = [(today, id) for id, day in found.values() if day < today]
    connection.executemany("UPDATE activity_word SET day = ? WHERE id = ?", stale)
    new = [word for word in words if word not in found]
    if new:
        rows = [(*word, today) for word in new]
        connection.executemany("INSERT INTO activity_word (kind, word, day) VALUES (?, ?, ?)", rows)
        found |= _known(connection, new)
    return {word: id for word, (id, _) in found.items()}


def _known(connection: sqlite3.Connection, words: Collection[Word]) -> dict[Word, tuple[int, int]]:
    """Ids and days of those that are kept."""
    rows = connection.execute(
        "SELECT kind, word, activity_word.id, day FROM json_each(?) AS asked"
        " CROSS JOIN activity_word ON kind = asked.value ->> 0 AND word = asked.value ->> 1",
        (json.dumps(list(words)),),
    )
    return {(kind, word): (id, day) for kind, word, id, day in rows}


def words_of(connection: sqlite3.Connection, ids: Iterable[int | None]) -> dict[int, str]:
    """The words of ids."""
    rows = connection.execute(
        "SELECT id, word FROM activity_word WHERE id IN (SELECT value FROM json_each(?))",
        (json.dumps(sorted({id for id in ids if id is not None})),),
    )
    return {row[0]: row[1] for row in rows}


def move_activity(connection: sqlite3.Connection, old: str, new: str) -> int:
    """What a new device reported was reported by the old one, behind what that has; by how much its numbers are higher
    from then on.
    """
    known = _known(connection, [("device", old), ("device", new)])
    own, other = (known.get(("device", device), (None, 0))[0] for device in (old, new))
    (offset,) = connection.execute("SELECT coalesce(max(seq), 0) FROM activity WHERE device = ?", (own,)).fetchone()
    if other is not None and own is None:
        connection.execute("UPDATE activity_word SET word = ? WHERE id = ?", (old, other))
    elif other is not None:
        connection.execute("UPDATE activity SET device = ?, seq = seq + ? WHERE device = ?", (own, offset, other))
        connection.execute("DELETE FROM activity_word WHERE id = ?", (other,))
    return int(offset)
