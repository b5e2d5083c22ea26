"""The estate's objects, and the revisions that changed them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterator, Sequence
from datetime import UTC, datetime
from typing import Any, NamedTuple, overload

from portero.core.insight.differences import NOUNS
from portero.core.insight.folding import Places, fold
from portero.core.insight.history import Step, Undo
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.coverage import CoverageRow
from portero.core.nouns.estate import Correction, Estate
from portero.core.nouns.feed import Feed
from portero.core.nouns.group import Group
from portero.core.nouns.notice import Notice
from portero.core.nouns.probe_set import ProbeSet
from portero.core.nouns.revision import Change, Revision
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.schedule import Schedule
from portero.core.nouns.service import Service
from portero.core.nouns.settings import GroupLayers, Settings

_TABLES = {
    "group": "estate_group",
    "schedule": "schedule",
    "application set": "application_set",
    "ruleset": "ruleset",
    "assignment": "assignment",
    "notice": "notice",
    "correction": "correction",
    "service": "service",
    "layer modes": "layer_modes",
    "coverage row": "coverage_row",
    "probe set": "probe_set",
    "feed": "feed",
}
_SINGLES = ("precedence", "settings")


@overload
def moment(seconds: float) -> datetime: ...
@overload
def moment(seconds: None) -> None: ...
def moment(seconds: float | None) -> datetime | None:
    """Stored seconds as a moment in UTC."""
    return None if seconds is None else datetime.fromtimestamp(seconds, UTC)


def newest_revision(connection: sqlite3.Connection) -> int:
    """The number of the estate's state; 0 before the first change."""
    return int(connection.execute("SELECT coalesce(max(number), 0) FROM revision").fetchone()[0])


def load_estate(connection: sqlite3.Connection) -> Estate:
    """The whole estate at its newest revision."""

    def documents(table: str) -> list[Any]:
        rows = connection.execute(f"SELECT document FROM {table} ORDER BY place, key")
        return [json.loads(row[0]) for row in rows]

    singles = {row[0]: json.loads(row[1]) for row in connection.execute("SELECT name, document FROM single")}
    return Estate(
        precedence=tuple(singles.get("precedence", ())),
        settings=Settings.model_validate(singles.get("settings", {})),
        groups=tuple(map(Group.model_validate, documents("estate_group"))),
        schedules=tuple(map(Schedule.model_validate, documents("schedule"))),
        application_sets=tuple(map(ApplicationSet.model_validate, documents("application_set"))),
        rulesets=tuple(map(Ruleset.model_validate, documents("ruleset"))),
        assignments=tuple(map(Assignment.model_validate, documents("assignment"))),
        notices=tuple(map(Notice.model_validate, documents("notice"))),
        services=tuple(map(Service.model_validate, documents("service"))),
        corrections=tuple(map(Correction.model_validate, documents("correction"))),
        layer_modes=tuple(map(GroupLayers.model_validate, documents("layer_modes"))),
        coverage=tuple(map(CoverageRow.model_validate, documents("coverage_row"))),
        probe_sets=tuple(map(ProbeSet.model_validate, documents("probe_set"))),
        feeds=tuple(map(Feed.model_validate, documents("feed"))),
    )


def versions(connection: sqlite3.Connection, noun: str) -> dict[str, int]:
    """The revision that last changed each object of a noun, by key; of a part there is one of, by its own name."""
    if noun in _SINGLES:
        row = connection.execute("SELECT version FROM single WHERE name = ?", (noun,)).fetchone()
        return {noun: row[0] if row else 0}
    return {row["key"]: row["version"] for row in connection.execute(f"SELECT key, version FROM {_TABLES[noun]}")}


def write_revision(
    connection: sqlite3.Connection,
    *,
    at: float,
    by: str,
    summary: str,
    reason: str | None,
    changes: Sequence[Change],
    before: Estate,
) -> int:
    """Write the objects, the revision and its change records; returns the new revision's number.

    `before` is the estate as it was: of what is removed it is kept where it stood.
    """
    number = newest_revision(connection) + 1
    connection.execute(
        "INSERT INTO revision (number, at, by, summary, reason) VALUES (?, ?, ?, ?, ?)",
        (number, at, by, summary, reason),
    )
    for place, change in enumerate(changes):
        kept, places = _kept(change)
        old, new = (json.dumps(side) if side else None for side in (kept.before, kept.after))
        connection.execute(
            "INSERT INTO change (revision, place, noun, key, verb, before, after, stood, places)"
            " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (number, place, change.noun, change.key, change.verb, old, new, _stood(before, change), places),
        )
        _apply(connection, number, change)
    return number


def _kept(change: Change) -> tuple[Change, str | None]:
    """The change as it is kept: of a long ruleset only what differs, and where that stands."""
    if change.noun != "ruleset" or change.before is None or change.after is None:
        return change, None
    folded = fold(change.before, change.after)
    if folded is None:
        return change, None
    return change.model_copy(update={"before": folded.before, "after": folded.after}), json.dumps(folded.places)


def _apply(connection: sqlite3.Connection, revision: int, change: Change) -> None:
    if change.noun in _SINGLES:
        connection.execute(
            "INSERT INTO single (name, version, document) VALUES (?, ?, ?)"
            " ON CONFLICT (name) DO UPDATE SET version = excluded.version, document = excluded.document",
            (change.noun, revision, json.dumps((change.after or {})[change.noun])),
        )
        return
    table = _TABLES[change.noun]
    if change.after is None:
        connection.execute(f"DELETE FROM {table} WHERE key = ?", (change.key,))
        return
    extra = {"ruleset": change.after["ruleset"]} if change.noun == "assignment" else {}
    columns = {"version": revision, "document": json.dumps(change.after), **extra}
    if change.verb == "changed":
        assigned = ", ".join(f"{column} = ?" for column in columns)
        connection.execute(f"UPDATE {table} SET {assigned} WHERE key = ?", (*columns.values(), change.key))
        return
    names, marks = ", ".join(columns), ", ".join("?" for _ in columns)
    connection.execute(
        f"INSERT INTO {table} (key, place, {names})"
        f" VALUES (?, (SELECT coalesce(max(place), 0) + 1 FROM {table}), {marks})",
        (change.key, *columns.values()),
    )


def _stood(before: Estate, change: Change) -> int | None:
    """Where a removed object stood in its list."""
    if change.verb != "removed" or change.noun not in NOUNS:
        return None
    attribute, by = NOUNS[change.noun]
    return next(place for place, one in enumerate(getattr(before, attribute)) if getattr(one, by) == change.key)


def keep_order(connection: sqlite3.Connection, revision: int, before: Estate, after: Estate) -> None:
    """Where a list's order is not that of before with what is new at its end, keep the new one: it may count. The
    former one is kept with the revision.
    """
    for noun, (attribute, by) in NOUNS.items():
        keys = [getattr(one, by) for one in getattr(after, attribute)]
        had = [getattr(one, by) for one in getattr(before, attribute)]
        stay = set(keys)
        expected = [key for key in had if key in stay]
        expected += [key for key in keys if key not in set(had)]
        if keys != expected:
            connection.executemany(
                f"UPDATE {_TABLES[noun]} SET place = ? WHERE key = ?",
                [(place, key) for place, key in enumerate(keys, 1)],
            )
            connection.execute(
                "INSERT INTO former_order (revision, noun, keys) VALUES (?, ?, ?)", (revision, noun, json.dumps(had))
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


def _revision(connection: sqlite3.Connection, row: sqlite3.Row) -> Revision:
    changes = connection.execute(
        "SELECT noun, key, verb, before, after FROM change WHERE revision = ? ORDER BY place", (row["number"],)
    )
    return Revision(
        number=row["number"],
        at=moment(row["at"]),
        by=row["by"],
        summary=row["summary"],
        reason=row["reason"],
        devices=row["devices"],
        changes=tuple(map(_change, changes)),
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
    """Revisions with their changes, newest first, below a number where one is given; and how many there are in all."""
    asked = wanted._asdict()
    rows = connection.execute(
        f"SELECT * {_WANTED} AND (:below IS NULL OR number < :below) ORDER BY number DESC LIMIT :limit",
        {**asked, "below": below, "limit": limit},
    ).fetchall()
    total = connection.execute(f"SELECT count(*) {_WANTED}", asked).fetchone()[0]
    return [_revision(connection, row) for row in rows], total


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
