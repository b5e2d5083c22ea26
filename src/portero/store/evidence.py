"""Evidence as it is kept: the signed files, packed."""

from __future__ import annotations

import sqlite3

import zstandard

from portero.core.nouns.evidence import EvidenceSummary
from portero.core.nouns.page import Page
from portero.store.paging import Query, page

MOST = 1_000
"""So much evidence is kept; the oldest goes first."""


def add_evidence(connection: sqlite3.Connection, summary: EvidenceSummary, token: str) -> EvidenceSummary:
    """Keep a signed file; gives it its number."""
    cursor = connection.execute(
        "INSERT INTO evidence (run, revision, summary, file) VALUES (?, ?, '', ?)",
        (summary.run, summary.revision, zstandard.compress(token.encode())),
    )
    made = summary.model_copy(update={"id": int(cursor.lastrowid or 0)})
    connection.execute("UPDATE evidence SET summary = ? WHERE id = ?", (made.model_dump_json(), made.id))
    connection.execute("DELETE FROM evidence WHERE id <= ?", (made.id - MOST,))
    return made


def file_of(connection: sqlite3.Connection, id: int) -> str | None:
    """A signed file; None where there is none (any more)."""
    row = connection.execute("SELECT file FROM evidence WHERE id = ?", (id,)).fetchone()
    return zstandard.decompress(row[0]).decode() if row else None


def list_evidence(connection: sqlite3.Connection, cursor: str | None, limit: int) -> Page[EvidenceSummary]:
    """A page of what is kept, the newest first."""
    found = page(connection, Query("summary", "evidence", [], {}, "id", True, "id"), cursor, limit)
    items = [EvidenceSummary.model_validate_json(row["summary"]) for row in found.rows]
    return Page(items=items, next=found.next, total=found.total)


def of_revision(connection: sqlite3.Connection, revision: int, limit: int) -> list[EvidenceSummary]:
    """The evidence of runs at a revision, the newest first."""
    rows = connection.execute(
        "SELECT summary FROM evidence WHERE revision = ? ORDER BY id DESC LIMIT ?", (revision, limit)
    )
    return [EvidenceSummary.model_validate_json(row[0]) for row in rows]
