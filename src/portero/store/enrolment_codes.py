"""The codes by which devices join. They arrive here as hashes only."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass

from portero.core.nouns.enrolment import EnrolmentCodeSummary
from portero.store.moments import moment
from portero.store.paging import Query, Rows, page


def add_enrolment_code(
    connection: sqlite3.Connection,
    *,
    id: str,
    code_hash: str,
    name: str | None,
    labels: dict[str, str],
    uses: int,
    expires: float,
    by: str,
    now: float,
    device: str | None = None,
) -> None:
    """A code by which devices may join; one made for a device is good for that one only."""
    connection.execute(
        "INSERT INTO enrolment_code"
        " (id, code_hash, name, labels, uses, uses_left, expires_at, made_by, made_at, device)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (id, code_hash, name, json.dumps(labels), uses, uses, expires, by, now, device),
    )


@dataclass(frozen=True)
class UsedCode:
    """What a code that was just used brings along."""

    id: str
    labels: dict[str, str]
    made_by: str
    device: str | None


def use_enrolment_code(connection: sqlite3.Connection, code_hash: str, now: float) -> UsedCode | None:
    """Take one use of the code; None where it is not good (any more)."""
    row = connection.execute(
        "UPDATE enrolment_code SET uses_left = uses_left - 1"
        " WHERE code_hash = ? AND uses_left > 0 AND expires_at > ? AND revoked_at IS NULL"
        " RETURNING id, labels, made_by, device",
        (code_hash, now),
    ).fetchone()
    return UsedCode(row[0], json.loads(row[1]), row[2], row[3]) if row else None


def revoke_enrolment_code(connection: sqlite3.Connection, id: str, now: float) -> bool:
    """Take a code back; False where there is none of that id."""
    changed = connection.execute(
        "UPDATE enrolment_code SET revoked_at = coalesce(revoked_at, ?) WHERE id = ?", (now, id)
    )
    return changed.rowcount > 0


def list_enrolment_codes(connection: sqlite3.Connection, cursor: str | None, limit: int) -> Rows:
    """One page of codes, newest first; map its rows with `code_of`."""
    query = Query(
        "enrolment_code.*, device.hostname",
        "enrolment_code LEFT JOIN device ON device.id = enrolment_code.device",
        [],
        {},
        "enrolment_code.made_at",
        True,
        "enrolment_code.id",
    )
    return page(connection, query, cursor, limit)


def code_by_hash(connection: sqlite3.Connection, code_hash: str, now: float) -> EnrolmentCodeSummary | None:
    """The code with that hash, good or not."""
    row = connection.execute(
        "SELECT enrolment_code.*, device.hostname FROM enrolment_code"
        " LEFT JOIN device ON device.id = enrolment_code.device WHERE code_hash = ?",
        (code_hash,),
    ).fetchone()
    return code_of(row, now) if row else None


def code_of(row: sqlite3.Row, now: float) -> EnrolmentCodeSummary:
    """A row as a code."""
    if row["revoked_at"] is not None:
        state = "revoked"
    elif row["uses_left"] == 0:
        state = "used up"
    else:
        state = "ended" if row["expires_at"] <= now else "good"
    return EnrolmentCodeSummary(
        id=row["id"],
        name=row["name"],
        labels=json.loads(row["labels"]),
        uses=row["uses"],
        uses_left=row["uses_left"],
        expires_at=moment(row["expires_at"]),
        made_by=row["made_by"],
        made_at=moment(row["made_at"]),
        revoked_at=moment(row["revoked_at"]),
        device=row["hostname"],
        state=state,
    )
