"""Who may use the service: administrators, sessions, API tokens. Secrets arrive here as hashes only."""

from __future__ import annotations

import sqlite3
from datetime import datetime
from typing import NamedTuple

from portero.store.moments import moment


class Principal(NamedTuple):
    """Whoever makes a request: an administrator's name and the role that counts for it."""

    name: str
    role: str
    csrf_token: str | None = None


class TokenRecord(NamedTuple):
    """An API token without its secret."""

    id: str
    administrator: str
    label: str
    role: str
    made_at: datetime
    expires_at: datetime | None


def count_administrators(connection: sqlite3.Connection) -> int:
    """How many administrators there are."""
    return int(connection.execute("SELECT count(*) FROM administrator").fetchone()[0])


def add_administrator(connection: sqlite3.Connection, name: str, role: str, password_hash: str) -> None:
    """An administrator, or a new password and role for one there is."""
    connection.execute(
        "INSERT INTO administrator (name, role, password_hash) VALUES (?, ?, ?)"
        " ON CONFLICT (name) DO UPDATE SET role = excluded.role, password_hash = excluded.password_hash",
        (name, role, password_hash),
    )


def password_hash_of(connection: sqlite3.Connection, name: str) -> str | None:
    """The password hash of an administrator."""
    row = connection.execute("SELECT password_hash FROM administrator WHERE name = ?", (name,)).fetchone()
    return row[0] if row else None


def add_session(connection: sqlite3.Connection, secret_hash: str, name: str, csrf_token: str, expires: float) -> None:
    """A browser session of an administrator."""
    connection.execute(
        "INSERT INTO session (secret_hash, administrator, csrf_token, expires_at) VALUES (?, ?, ?, ?)",
        (secret_hash, name, csrf_token, expires),
    )


def end_session(connection: sqlite3.Connection, secret_hash: str, now: float) -> None:
    """End a session, and drop those that have run out."""
    connection.execute("DELETE FROM session WHERE secret_hash = ? OR expires_at < ?", (secret_hash, now))


def by_session(connection: sqlite3.Connection, secret_hash: str, now: float) -> Principal | None:
    """Whose session it is."""
    row = connection.execute(
        "SELECT administrator.name, administrator.role, session.csrf_token FROM session"
        " JOIN administrator ON administrator.name = session.administrator"
        " WHERE session.secret_hash = ? AND session.expires_at > ?",
        (secret_hash, now),
    ).fetchone()
    return Principal(*row) if row else None


def add_token(
    connection: sqlite3.Connection,
    *,
    id: str,
    secret_hash: str,
    name: str,
    label: str,
    role: str,
    now: float,
    expires: float | None,
) -> None:
    """An API token of an administrator."""
    connection.execute(
        "INSERT INTO api_token (id, secret_hash, administrator, label, role, made_at, expires_at)"
        " VALUES (?, ?, ?, ?, ?, ?, ?)",
        (id, secret_hash, name, label, role, now, expires),
    )


def by_token(connection: sqlite3.Connection, secret_hash: str, now: float) -> Principal | None:
    """Whose token it is, with the token's role."""
    row = connection.execute(
        "SELECT administrator, role FROM api_token WHERE secret_hash = ? AND (expires_at IS NULL OR expires_at > ?)",
        (secret_hash, now),
    ).fetchone()
    return Principal(row[0], row[1]) if row else None


def list_tokens(connection: sqlite3.Connection, name: str) -> list[TokenRecord]:
    """An administrator's API tokens."""
    rows = connection.execute(
        "SELECT id, administrator, label, role, made_at, expires_at FROM api_token WHERE administrator = ?"
        " ORDER BY made_at",
        (name,),
    )
    return [TokenRecord(row[0], row[1], row[2], row[3], moment(row[4]) or datetime.min, moment(row[5])) for row in rows]


def revoke_token(connection: sqlite3.Connection, id: str, name: str) -> bool:
    """Take a token back; False where the administrator has none of that id."""
    cursor = connection.execute("DELETE FROM api_token WHERE id = ? AND administrator = ?", (id, name))
    return cursor.rowcount > 0


def recall_answer(connection: sqlite3.Connection, name: str, key: str) -> tuple[str, str] | None:
    """Fingerprint and answer kept under an Idempotency-Key."""
    row = connection.execute(
        "SELECT fingerprint, answer FROM idempotency WHERE administrator = ? AND key = ?", (name, key)
    ).fetchone()
    return (row[0], row[1]) if row else None


def keep_answer(connection: sqlite3.Connection, name: str, key: str, fingerprint: str, answer: str, now: float) -> None:
    """Keep the answer to a creation, and drop those older than a day."""
    connection.execute("DELETE FROM idempotency WHERE at < ?", (now - 86_400,))
    connection.execute(
        "INSERT INTO idempotency (key, administrator, fingerprint, answer, at) VALUES (?, ?, ?, ?, ?)",
        (key, name, fingerprint, answer, now),
    )


def names(connection: sqlite3.Connection) -> list[str]:
    """The names of all who may sign in."""
    return [row[0] for row in connection.execute("SELECT name FROM administrator")]
