"""Who may use the service: administrators, sessions, API tokens. Secrets arrive here as hashes only."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from typing import Literal, NamedTuple

from portero.core.nouns.access import SessionState, Token
from portero.store.moments import moment

Means = Literal["session", "token"]


class Principal(NamedTuple):
    """Whoever makes a request: an administrator's name, the role that counts for it, and by what they are known: a
    session or a token of this id, until when.
    """

    name: str
    role: str
    means: Means
    id: str
    expires: float
    csrf_token: str | None = None


class Use(NamedTuple):
    """A session or token was used, at this moment, from this address."""

    means: Means
    id: str
    at: float
    address: str


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


def set_password_hash(connection: sqlite3.Connection, name: str, password_hash: str) -> None:
    """Another hash of the administrator's password."""
    connection.execute("UPDATE administrator SET password_hash = ? WHERE name = ?", (password_hash, name))


def names(connection: sqlite3.Connection) -> list[str]:
    """The names of all who may sign in."""
    return [row[0] for row in connection.execute("SELECT name FROM administrator")]


def note_uses(connection: sqlite3.Connection, uses: Iterable[Use]) -> None:
    """When and from where sessions and tokens were last used."""
    for use in uses:
        table = "session" if use.means == "session" else "api_token"
        connection.execute(
            f"UPDATE {table} SET last_used = ?, last_from = ? WHERE id = ?", (use.at, use.address, use.id)
        )


# --- sessions ---


def add_session(
    connection: sqlite3.Connection,
    *,
    id: str,
    secret_hash: str,
    name: str,
    csrf_token: str,
    now: float,
    expires: float,
) -> None:
    """A browser session of an administrator; those that have run out are dropped."""
    connection.execute("DELETE FROM session WHERE expires_at < ?", (now,))
    connection.execute(
        "INSERT INTO session (id, secret_hash, administrator, csrf_token, made_at, expires_at)"
        " VALUES (?, ?, ?, ?, ?, ?)",
        (id, secret_hash, name, csrf_token, now, expires),
    )


def by_session(connection: sqlite3.Connection, secret_hash: str, now: float) -> Principal | None:
    """Whose session it is."""
    row = connection.execute(
        "SELECT administrator.name, administrator.role, 'session', session.id, session.expires_at, session.csrf_token"
        " FROM session JOIN administrator ON administrator.name = session.administrator"
        " WHERE session.secret_hash = ? AND session.expires_at > ?",
        (secret_hash, now),
    ).fetchone()
    return Principal(*row) if row else None


def list_sessions(connection: sqlite3.Connection, name: str | None, now: float) -> list[SessionState]:
    """An administrator's sessions, or everybody's, the newest first."""
    rows = connection.execute(
        "SELECT session.*, administrator.role FROM session JOIN administrator"
        " ON administrator.name = session.administrator"
        " WHERE expires_at > ? AND (? IS NULL OR session.administrator = ?) ORDER BY made_at DESC, id",
        (now, name, name),
    )
    return [
        SessionState(
            id=row["id"],
            administrator=row["administrator"],
            role=row["role"],
            made_at=moment(row["made_at"]),
            expires_at=moment(row["expires_at"]),
            last_used=moment(row["last_used"]),
            last_from=row["last_from"],
        )
        for row in rows
    ]


def end_session(connection: sqlite3.Connection, id: str, name: str | None) -> bool:
    """End a session, of that administrator where one is named; whether there was one."""
    done = connection.execute("DELETE FROM session WHERE id = ? AND (? IS NULL OR administrator = ?)", (id, name, name))
    return done.rowcount > 0


# --- tokens ---


def add_token(
    connection: sqlite3.Connection,
    *,
    id: str,
    secret_hash: str,
    name: str,
    label: str,
    role: str,
    now: float,
    expires: float,
    made_by: str | None = None,
) -> None:
    """An API token of an administrator, made in a session or by another token. Those that ended long ago go."""
    connection.execute("DELETE FROM api_token WHERE expires_at < ?", (now - 30 * 86_400.0,))
    connection.execute(
        "INSERT INTO api_token (id, secret_hash, administrator, label, role, made_at, expires_at, made_by)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        (id, secret_hash, name, label, role, now, expires, made_by),
    )


def by_token(connection: sqlite3.Connection, secret_hash: str, now: float) -> Principal | None:
    """Whose token it is, with the token's role."""
    row = connection.execute(
        "SELECT administrator, role, 'token', id, expires_at FROM api_token WHERE secret_hash = ? AND expires_at > ?",
        (secret_hash, now),
    ).fetchone()
    return Principal(*row) if row else None


def list_tokens(connection: sqlite3.Connection, name: str | None) -> list[Token]:
    """An administrator's API tokens, or everybody's, the newest first."""
    rows = connection.execute(
        "SELECT * FROM api_token WHERE ? IS NULL OR administrator = ? ORDER BY made_at DESC, id", (name, name)
    )
    return [
        Token(
            id=row["id"],
            administrator=row["administrator"],
            label=row["label"],
            role=row["role"],
            made_at=moment(row["made_at"]),
            expires_at=moment(row["expires_at"]),
            last_used=moment(row["last_used"]),
            last_from=row["last_from"],
            made_by=row["made_by"],
        )
        for row in rows
    ]


def made_by_token(connection: sqlite3.Connection, id: str) -> set[str]:
    """The token itself, and those that it made, and these in turn."""
    rows = connection.execute(
        "WITH RECURSIVE made (id) AS (SELECT ? UNION SELECT api_token.id FROM api_token JOIN made"
        " ON api_token.made_by = made.id) SELECT id FROM made",
        (id,),
    )
    return {row[0] for row in rows}


def end_token(connection: sqlite3.Connection, id: str, name: str | None) -> bool:
    """End a token with all that it made, of that administrator where one is named; whether there was one."""
    found = connection.execute(
        "SELECT 1 FROM api_token WHERE id = ? AND (? IS NULL OR administrator = ?)", (id, name, name)
    ).fetchone()
    if found is None:
        return False
    connection.executemany("DELETE FROM api_token WHERE id = ?", [(made,) for made in made_by_token(connection, id)])
    return True


# --- creations that are sent again ---


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
