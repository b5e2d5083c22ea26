"""Administrators in the store. Passwords arrive here as hashes only."""

from __future__ import annotations

import sqlite3
from typing import NamedTuple

from portero.core.nouns.administrator import Administrator, AdministratorChange
from portero.store.moments import moment

_COLUMNS = "name, role, sees_names, probes_freely, disabled, note, made_at, last_seen, last_from, first_until, version"


class KeptPassword(NamedTuple):
    """The hash of a password; until when, where it is the first one; and whether its administrator may sign in."""

    hash: str
    first_until: float | None
    disabled: bool


def count(connection: sqlite3.Connection) -> int:
    """How many administrators there are."""
    return int(connection.execute("SELECT count(*) FROM administrator").fetchone()[0])


def names(connection: sqlite3.Connection) -> list[str]:
    """The names of all administrators."""
    return [row[0] for row in connection.execute("SELECT name FROM administrator ORDER BY name")]


def keepers(connection: sqlite3.Connection) -> list[str]:
    """The names of all keepers who may sign in: those who can give roles."""
    rows = connection.execute("SELECT name FROM administrator WHERE role = 'keeper' AND NOT disabled ORDER BY name")
    return [row[0] for row in rows]


def listed(connection: sqlite3.Connection) -> list[Administrator]:
    """All administrators by name."""
    return [_administrator(row) for row in connection.execute(f"SELECT {_COLUMNS} FROM administrator ORDER BY name")]


def named(connection: sqlite3.Connection, name: str) -> Administrator | None:
    """The administrator of a name."""
    row = connection.execute(f"SELECT {_COLUMNS} FROM administrator WHERE name = ?", (name,)).fetchone()
    return _administrator(row) if row else None


def _administrator(row: sqlite3.Row) -> Administrator:
    return Administrator(
        name=row["name"],
        role=row["role"],
        sees_names=bool(row["sees_names"]),
        probes_freely=bool(row["probes_freely"]),
        disabled=bool(row["disabled"]),
        note=row["note"],
        made_at=moment(row["made_at"]),
        last_seen=moment(row["last_seen"]),
        last_from=row["last_from"],
        first_password_until=moment(row["first_until"]),
        version=row["version"],
    )


def add(
    connection: sqlite3.Connection,
    name: str,
    said: AdministratorChange,
    password_hash: str,
    now: float,
    first_until: float | None = None,
) -> None:
    """An administrator more. sqlite3.IntegrityError where there is one of that name."""
    connection.execute(
        "INSERT INTO administrator"
        " (name, role, sees_names, probes_freely, disabled, note, password_hash, made_at, first_until)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (name, *_said(said), password_hash, now, first_until),
    )


def change(connection: sqlite3.Connection, name: str, said: AdministratorChange) -> None:
    """What a keeper says of an administrator from now on."""
    connection.execute(
        "UPDATE administrator SET role = ?, sees_names = ?, probes_freely = ?, disabled = ?, note = ?,"
        " version = version + 1 WHERE name = ?",
        (*_said(said), name),
    )


def _said(said: AdministratorChange) -> tuple[object, ...]:
    """What a keeper says of one, as columns have it."""
    return said.role, said.sees_names, said.probes_freely, said.disabled, said.note


def remove(connection: sqlite3.Connection, name: str) -> None:
    """An administrator less, with sessions and tokens; what they did stays in the history under their name."""
    connection.execute("DELETE FROM idempotency WHERE administrator = ?", (name,))
    connection.execute("DELETE FROM administrator WHERE name = ?", (name,))


def password_of(connection: sqlite3.Connection, name: str) -> KeptPassword | None:
    """The password of an administrator."""
    row = connection.execute(
        "SELECT password_hash, first_until, disabled FROM administrator WHERE name = ?", (name,)
    ).fetchone()
    return KeptPassword(row[0], row[1], bool(row[2])) if row else None


def set_password(connection: sqlite3.Connection, name: str, password_hash: str, first_until: float | None) -> None:
    """Another password, which is a first one until that moment, or their own."""
    connection.execute(
        "UPDATE administrator SET password_hash = ?, first_until = ?, version = version + 1 WHERE name = ?",
        (password_hash, first_until, name),
    )


def rehash(connection: sqlite3.Connection, name: str, password_hash: str) -> None:
    """The same password with another hash."""
    connection.execute("UPDATE administrator SET password_hash = ? WHERE name = ?", (password_hash, name))
