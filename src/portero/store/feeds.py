"""What became of feeds: their status, the generations that they brought, and the category index made of them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection
from typing import NamedTuple

from portero.core.nouns.feed import FeedCredential, Generation, Poll
from portero.formats.category_parts import CategoryParts
from portero.store.moments import moment


class Status(NamedTuple):
    """What became of a feed."""

    current: int | None = None
    waiting: int | None = None
    held: bool = False
    poll: Poll | None = None
    due_at: float | None = None
    etag: str | None = None
    credential: bool = False


def statuses(connection: sqlite3.Connection) -> dict[str, Status]:
    """What became of each feed, by key."""
    return {row["feed"]: _status(row) for row in connection.execute("SELECT * FROM feed_status")}


def status_of(connection: sqlite3.Connection, feed: str) -> Status:
    """What became of one; nothing yet, for one that is new."""
    row = connection.execute("SELECT * FROM feed_status WHERE feed = ?", (feed,)).fetchone()
    return _status(row) if row else Status()


def _status(row: sqlite3.Row) -> Status:
    poll = None
    if row["polled_at"] is not None:
        poll = Poll(at=moment(row["polled_at"]), result=row["result"], problem=row["problem"], failures=row["failures"])
    return Status(
        row["current"],
        row["waiting"],
        bool(row["held"]),
        poll,
        row["due_at"],
        row["etag"],
        row["credential"] is not None,
    )


def note(connection: sqlite3.Connection, feed: str, **values: object) -> None:
    """Set some columns of a feed's status."""
    connection.execute("INSERT OR IGNORE INTO feed_status (feed) VALUES (?)", (feed,))
    named = ", ".join(f"{name} = :{name}" for name in values)
    connection.execute(f"UPDATE feed_status SET {named} WHERE feed = :feed", {**values, "feed": feed})


def forget(connection: sqlite3.Connection, feeds: Collection[str]) -> None:
    """Forget all that became of some feeds, and what was kept aside of them: another of that key begins anew."""
    for table, column in (("feed_status", "feed"), ("generation", "feed"), ("set_aside", "owner")):
        connection.executemany(f"DELETE FROM {table} WHERE {column} = ?", [(key,) for key in feeds])


def note_poll(connection: sqlite3.Connection, feed: str, poll: Poll, due_at: float | None) -> None:
    """What came of fetching it, and when it is due again."""
    note(
        connection,
        feed,
        polled_at=poll.at.timestamp(),
        result=poll.result,
        problem=poll.problem,
        failures=poll.failures,
        due_at=due_at,
    )


def credential_of(connection: sqlite3.Connection, feed: str) -> FeedCredential | None:
    """What it is fetched with."""
    row = connection.execute("SELECT credential FROM feed_status WHERE feed = ?", (feed,)).fetchone()
    return FeedCredential.model_validate_json(row[0]) if row and row[0] else None


# --- generations ---


def next_number(connection: sqlite3.Connection, feed: str) -> int:
    """The number of a feed's next generation."""
    return int(
        connection.execute("SELECT coalesce(max(number), 0) + 1 FROM generation WHERE feed = ?", (feed,)).fetchone()[0]
    )


def keep_generation(connection: sqlite3.Connection, generation: Generation) -> None:
    """Keep a generation's figures."""
    connection.execute(
        "INSERT INTO generation (feed, number, digest, document) VALUES (?, ?, ?, ?)",
        (generation.feed, generation.number, generation.digest, generation.model_dump_json(exclude={"state"})),
    )


def get_generation(connection: sqlite3.Connection, feed: str, number: int | None) -> Generation | None:
    """One generation."""
    row = connection.execute("SELECT document FROM generation WHERE feed = ? AND number = ?", (feed, number)).fetchone()
    return Generation.model_validate_json(row[0]) if row else None


def put_in_force(connection: sqlite3.Connection, feed: str, number: int, held: bool) -> None:
    """A generation counts from now on. The one in whose place it first came is noted with it, to go back to."""
    replaced = status_of(connection, feed).current or 0
    connection.execute(
        "UPDATE generation SET document = json_set(document, '$.replaced', ?)"
        " WHERE feed = ? AND number = ? AND json_extract(document, '$.replaced') IS NULL",
        (replaced, feed, number),
    )
    note(connection, feed, current=number, waiting=None, held=int(held))


def generations(connection: sqlite3.Connection, feed: str, most: int = 200) -> list[Generation]:
    """A feed's generations, the newest first."""
    rows = connection.execute(
        "SELECT document FROM generation WHERE feed = ? ORDER BY number DESC LIMIT ?", (feed, most)
    )
    return [Generation.model_validate_json(row[0]) for row in rows]


def current_generations(connection: sqlite3.Connection, feeds: Collection[str]) -> dict[str, Generation]:
    """The generation in force of each of these feeds that has one."""
    rows = connection.execute(
        "SELECT generation.document FROM feed_status JOIN generation"
        " ON generation.feed = feed_status.feed AND generation.number = feed_status.current"
    )
    found = [Generation.model_validate_json(row[0]) for row in rows]
    return {generation.feed: generation for generation in found if generation.feed in feeds}


def current_numbers(connection: sqlite3.Connection, feeds: Collection[str]) -> tuple[tuple[str, int], ...]:
    """The number of the generation in force of each of these feeds that has one, by key."""
    return tuple((key, one.number) for key, one in sorted(current_generations(connection, feeds).items()))


def wanted_digests(connection: sqlite3.Connection, kept: int) -> set[str]:
    """The digests of what is in force, what it replaced, what waits; and of each feed the newest few generations that
    counted, and those that came.
    """
    rows = connection.execute(
        "WITH told AS (SELECT feed, number, digest, json_extract(document, '$.replaced') AS replaced FROM generation),"
        " came AS (SELECT digest, row_number() OVER (PARTITION BY feed ORDER BY number DESC) AS place FROM told),"
        " counted AS (SELECT digest, row_number() OVER (PARTITION BY feed ORDER BY number DESC) AS place FROM told"
        "  WHERE replaced IS NOT NULL)"
        " SELECT digest FROM came WHERE place <= :kept UNION SELECT digest FROM counted WHERE place <= :kept"
        " UNION SELECT told.digest FROM told JOIN feed_status AS status USING (feed)"
        "  LEFT JOIN told AS now ON now.feed = told.feed AND now.number = status.current"
        "  WHERE told.number IN (status.current, status.waiting, now.replaced)",
        {"kept": kept},
    )
    return {row[0] for row in rows}


# --- the category index ---


class IndexRecord(NamedTuple):
    """A category index: its parts, when and on which day it was made, and of which generations."""

    parts: CategoryParts
    made_at: float
    day: int
    generations: dict[str, int]

    @property
    def digest(self) -> str:
        """Its name."""
        return self.parts.digest


def get_index(connection: sqlite3.Connection) -> IndexRecord | None:
    """The index in force."""
    row = connection.execute("SELECT * FROM category_index").fetchone()
    if row is None:
        return None
    parts = CategoryParts.read(row["document"].encode())
    return IndexRecord(parts, row["made_at"], row["day"], json.loads(row["generations"]))


def set_index(connection: sqlite3.Connection, index: IndexRecord) -> None:
    """Put an index in force."""
    connection.execute(
        "INSERT INTO category_index (id, digest, made_at, day, document, generations) VALUES (1, ?, ?, ?, ?, ?)"
        " ON CONFLICT (id) DO UPDATE SET digest = excluded.digest, made_at = excluded.made_at, day = excluded.day,"
        " document = excluded.document, generations = excluded.generations",
        (index.digest, index.made_at, index.day, index.parts.written().decode(), json.dumps(index.generations)),
    )


def devices_with_index(connection: sqlite3.Connection, digest: str) -> tuple[int, int]:
    """How many enrolled devices have an index, and how many have another one."""
    row = connection.execute(
        "SELECT coalesce(sum(applied_index = ?), 0), count(*) FROM device WHERE lifecycle = 'enrolled' AND revoked = 0",
        (digest,),
    ).fetchone()
    return int(row[0]), int(row[1] - row[0])
