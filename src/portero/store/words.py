"""Words that activity says again and again, each kept once, by its kind."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterable

from portero.store.database import Writer

Word = tuple[str, str]
"""Its kind (device, host, person, rule and such) and the word itself."""

MOST_REMEMBERED = 100_000
"""So many words are remembered, some 20 MB."""


def ids_of(connection: Writer, words: Collection[Word], now: float) -> dict[Word, int]:
    """The ids of words that something says now; those that are new are kept."""
    remembered, today = _remembered(connection), int(now // 86_400)
    unknown = [word for word in words if word not in remembered]
    if unknown:
        remembered |= _known(connection, unknown)
        new = [word for word in unknown if word not in remembered]
        rows = [(*word, today) for word in new]
        connection.executemany("INSERT INTO activity_word (kind, word, day) VALUES (?, ?, ?)", rows)
        remembered |= _known(connection, new)
    found = {word: remembered[word] for word in words}
    stale = {word: (id, today) for word, (id, day) in found.items() if day < today}
    connection.executemany("UPDATE activity_word SET day = ? WHERE id = ?", [(today, id) for id, _ in stale.values()])
    remembered |= stale
    return {word: id for word, (id, _) in found.items()}


def _remembered(connection: Writer) -> dict[Word, tuple[int, int]]:
    """What is remembered of words, while nobody else has written into the file."""
    (version,) = connection.execute("PRAGMA data_version").fetchone()
    if version != connection.version or len(connection.words) > MOST_REMEMBERED:
        connection.forget()
        connection.version = version
    return connection.words


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


def move_activity(connection: Writer, old: str, new: str) -> int:
    """What a new device reported was reported by the old one, behind what that has; by how much its numbers are higher
    from then on.
    """
    known = _known(connection, [("device", old), ("device", new)])
    own, other = (known.get(("device", device), (None, 0))[0] for device in (old, new))
    (offset,) = connection.execute("SELECT coalesce(max(seq), 0) FROM activity WHERE device = ?", (own,)).fetchone()
    connection.forget()
    if other is not None and own is None:
        connection.execute("UPDATE activity_word SET word = ? WHERE id = ?", (old, other))
    elif other is not None:
        connection.execute("UPDATE activity SET device = ?, seq = seq + ? WHERE device = ?", (own, offset, other))
        connection.execute("DELETE FROM activity_word WHERE id = ?", (other,))
    return int(offset)


def forget_words(connection: Writer, before: float) -> None:
    """Drop the words that nothing has said since a moment."""
    connection.forget()
    connection.execute("DELETE FROM activity_word WHERE day < ?", (int(before // 86_400) - 1,))
