"""By what administrators are known: sessions and API tokens. Secrets arrive here as hashes only."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from typing import Literal, NamedTuple

from portero.core.nouns.access import Role, SessionState, Token, lesser
from portero.store.moments import moment

Means = Literal["session", "token"]


class Principal(NamedTuple):
    """Whoever makes a request: an administrator's name, the role that counts for it and their own, whether they see
    names and may probe freely, and by what they are known: a session or a token of this id, until when. With a first
    password nothing is done but to change it.
    """

    name: str
    role: Role
    own_role: Role
    sees_names: bool
    probes_freely: bool
    has_first_password: bool
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


def note_uses(connection: sqlite3.Connection, uses: Iterable[Use]) -> None:
    """When and from where sessions and tokens were last used, and so their administrators last seen."""
    for use in uses:
        table = "session" if use.means == "session" else "api_token"
        connection.execute(
            f"UPDATE {table} SET last_used = ?, last_from = ? WHERE id = ?", (use.at, use.address, use.id)
        )
        connection.execute(
            "UPDATE administrator SET last_seen = ?, last_from = ?"
            f" WHERE name = (SELECT administrator FROM {table} WHERE id = ?)",
            (use.at, use.address, use.id),
        )


def _principal(row: sqlite3.Row, means: Means) -> Principal:
    """Of a row with the administrator, and `token_role` where a token has one: it counts for no more than the
    administrator may today.
    """
    own: Role = row["role"]
    role = own if means == "session" else lesser(own, row["token_role"])
    sees_names, first = bool(row["sees_names"]), row["first_until"] is not None and means == "session"
    csrf_token = row["csrf_token"] if means == "session" else None
    freely, expires = bool(row["probes_freely"]), row["expires_at"]
    return Principal(row["name"], role, own, sees_names, freely, first, means, row["id"], expires, csrf_token)


_WHO = (
    "administrator.name, administrator.role, administrator.sees_names, administrator.probes_freely,"
    " administrator.first_until"
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
        f"SELECT {_WHO}, session.id, session.expires_at, session.csrf_token"
        " FROM session JOIN administrator ON administrator.name = session.administrator"
        " WHERE session.secret_hash = ? AND session.expires_at > ? AND NOT administrator.disabled",
        (secret_hash, now),
    ).fetchone()
    return _principal(row, "session") if row else None


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


def end_sessions(connection: sqlite3.Connection, name: str, but: str | None = None) -> None:
    """End an administrator's sessions, but for the one of that id."""
    connection.execute("DELETE FROM session WHERE administrator = ? AND id IS NOT ?", (name, but))


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
        f"SELECT {_WHO}, api_token.id, api_token.expires_at, api_token.role AS token_role"
        " FROM api_token JOIN administrator ON administrator.name = api_token.administrator"
        " WHERE api_token.secret_hash = ? AND api_token.expires_at > ? AND NOT administrator.disabled",
        (secret_hash, now),
    ).fetchone()
    return _principal(row, "token") if row else None


def list_tokens(connection: sqlite3.Connection, name: str | None) -> list[Token]:
    """An administrator's API tokens, or everybody's, the newest first."""
    rows = connection.execute(
        "SELECT api_token.*, administrator.role AS own_role FROM api_token JOIN administrator"
        " ON administrator.name = api_token.administrator"
        " WHERE ? IS NULL OR administrator = ? ORDER BY made_at DESC, id",
        (name, name),
    )
    return [
        Token(
            id=row["id"],
            administrator=row["administrator"],
            label=row["label"],
            role=lesser(row["own_role"], row["role"]),
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


def end_tokens(connection: sqlite3.Connection, name: str) -> None:
    """End all tokens of an administrator."""
    connection.execute("DELETE FROM api_token WHERE administrator = ?", (name,))


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
