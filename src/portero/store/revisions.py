"""Every committed change of the estate: what it did to which object, by whom, and what it takes to undo it."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterator
from typing import NamedTuple

from portero.core.insight.revisions import Step, Undo
from portero.core.insight.ruleset_differences import Places
from portero.core.nouns.revision import Change, Revision
from portero.store.moments import moment


def newest_revision(connection: sqlite3.Connection) -> int:
    """The number of the estate's state; 0 before the first change."""
    return int(connection.execute("SELECT coalesce(max(number), 0) FROM revision").fetchone()[0])


def revision_at(connection: sqlite3.Connection, at: float) -> int:
    """The number of the estate's state at a moment; 0 before the first change."""
    return int(connection.execute("SELECT coalesce(max(number), 0) FROM revision WHERE at <= ?", (at,)).fetchone()[0])


def write_revision(
    connection: sqlite3.Connection, number: int, at: float, by: str, summary: str, reason: str | None, step: Step
) -> None:
    """Write a revision and what it takes to undo it."""
    connection.execute(
        "INSERT INTO revision (number, at, by, summary, reason) VALUES (?, ?, ?, ?, ?)",
        (number, at, by, summary, reason),
    )
    for place, undo in enumerate(step.undos):
        change = undo.change
        before, after = (json.dumps(side) if side else None for side in (change.before, change.after))
        places = json.dumps(undo.places) if undo.places else None
        connection.execute(
            "INSERT INTO change (revision, place, noun, key, verb, before, after, stood, places)"
            " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (number, place, change.noun, change.key, change.verb, before, after, undo.stood, places),
        )
    connection.executemany(
        "INSERT INTO former_order (revision, noun, keys) VALUES (?, ?, ?)",
        [(number, noun, json.dumps(keys)) for noun, keys in step.orders.items()],
    )


def set_revision_devices(connection: sqlite3.Connection, revision: int, devices: int) -> None:
    """Note how many devices got a new bundle by the revision."""
    connection.execute("UPDATE revision SET devices = ? WHERE number = ?", (devices, revision))


def steps_back(connection: sqlite3.Connection, newest: int, number: int) -> Iterator[Step]:
    """What undoes the revisions after a number, from `newest` back."""
    for revision in range(newest, number, -1):
        rows = connection.execute(
            "SELECT noun, key, verb, before, after, stood, places FROM change WHERE revision = ? ORDER BY place",
            (revision,),
        ).fetchall()
        orders = connection.execute("SELECT noun, keys FROM former_order WHERE revision = ?", (revision,))
        undos = [Undo(_change(row), row["stood"], _places(row["places"])) for row in rows]
        yield Step(undos, {row[0]: json.loads(row[1]) for row in orders})


def _places(written: str | None) -> Places | None:
    return Places(*json.loads(written)) if written else None


def _change(row: sqlite3.Row) -> Change:
    return Change(
        noun=row["noun"],
        key=row["key"],
        verb=row["verb"],
        before=json.loads(row["before"]) if row["before"] else None,
        after=json.loads(row["after"]) if row["after"] else None,
    )


class RevisionFilter(NamedTuple):
    """Which revisions: by somebody, about a noun, about one object, with some words in summary or reason."""

    by: str | None = None
    noun: str | None = None
    key: str | None = None
    q: str | None = None


LISTED_CHANGES = 10
"""So many changes of each revision are told in lists."""


def _revision(connection: sqlite3.Connection, row: sqlite3.Row, listed: RevisionFilter | None = None) -> Revision:
    """A revision; in a list its first changes, those before the others that are asked for."""
    documents, limit = ("NULL AS before, NULL AS after", LISTED_CHANGES) if listed else ("before, after", -1)
    asked = {"noun": listed.noun, "key": listed.key} if listed else {"noun": None, "key": None}
    changes = connection.execute(
        f"SELECT noun, key, verb, {documents} FROM change WHERE revision = :number ORDER BY"
        " (:noun IS NULL OR noun = :noun) AND (:key IS NULL OR key = :key) DESC, place LIMIT :limit",
        {"number": row["number"], "limit": limit, **asked},
    )
    (changed,) = connection.execute("SELECT count(*) FROM change WHERE revision = ?", (row["number"],)).fetchone()
    proof = connection.execute("SELECT state FROM proof WHERE revision = ?", (row["number"],)).fetchone()
    return Revision(
        number=row["number"],
        at=moment(row["at"]),
        by=row["by"],
        summary=row["summary"],
        reason=row["reason"],
        devices=row["devices"],
        changes=tuple(map(_change, changes)),
        changed=changed,
        proof=proof[0] if proof else None,
    )


_WANTED = """
FROM revision WHERE (:by IS NULL OR by = :by)
AND (:q IS NULL OR instr(lower(summary || ' ' || coalesce(reason, '')), lower(:q)))
AND ((:noun IS NULL AND :key IS NULL) OR EXISTS (
  SELECT 1 FROM change WHERE change.revision = revision.number
  AND (:noun IS NULL OR noun = :noun) AND (:key IS NULL OR key = :key)))
"""


def list_revisions(
    connection: sqlite3.Connection, wanted: RevisionFilter, below: int | None, limit: int
) -> tuple[list[Revision], int]:
    """Revisions, each with its first changes, newest first, below a number where one is given; how many there are."""
    asked = wanted._asdict()
    rows = connection.execute(
        f"SELECT * {_WANTED} AND (:below IS NULL OR number < :below) ORDER BY number DESC LIMIT :limit",
        {**asked, "below": below, "limit": limit},
    ).fetchall()
    total = connection.execute(f"SELECT count(*) {_WANTED}", asked).fetchone()[0]
    return [_revision(connection, row, wanted) for row in rows], total


def last_changes(connection: sqlite3.Connection, numbers: Collection[int]) -> dict[int, sqlite3.Row]:
    """The revisions of these numbers, without their changes."""
    rows = connection.execute(
        "SELECT * FROM revision WHERE number IN (SELECT value FROM json_each(?))", (json.dumps(sorted(numbers)),)
    )
    return {row["number"]: row for row in rows}


def last_made(connection: sqlite3.Connection, noun: str, keys: Collection[str]) -> dict[str, tuple[int, str, float]]:
    """For objects of a noun, the revision that last changed each, by whom and when."""
    rows = connection.execute(
        "SELECT change.key, max(revision.number) AS number, revision.by, revision.at FROM change"
        " JOIN revision ON revision.number = change.revision"
        " WHERE change.noun = ? AND change.key IN (SELECT value FROM json_each(?)) GROUP BY change.key",
        (noun, json.dumps(list(keys))),
    )
    return {row["key"]: (row["number"], row["by"], row["at"]) for row in rows}


def get_revision(connection: sqlite3.Connection, number: int) -> Revision | None:
    """One revision with its changes."""
    row = connection.execute("SELECT * FROM revision WHERE number = ?", (number,)).fetchone()
    return _revision(connection, row) if row else None
