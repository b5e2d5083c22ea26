"""Findings that somebody has accepted."""

from __future__ import annotations

import sqlite3

from portero.core.nouns.finding import Acceptance
from portero.store.moments import moment


def accept(connection: sqlite3.Connection, finding: str, acceptance: Acceptance) -> None:
    """Keep the word that a finding may stay as it is, in place of an earlier one."""
    connection.execute(
        "INSERT OR REPLACE INTO accepted_finding (id, by, at, reason, until) VALUES (?, ?, ?, ?, ?)",
        (finding, acceptance.by, acceptance.at.timestamp(), acceptance.reason, acceptance.until.timestamp()),
    )


def take_back(connection: sqlite3.Connection, finding: str) -> bool:
    """Take the word back; False where there was none."""
    return connection.execute("DELETE FROM accepted_finding WHERE id = ?", (finding,)).rowcount > 0


def accepted(connection: sqlite3.Connection, now: float) -> dict[str, Acceptance]:
    """The acceptances that still hold, by the finding's id."""
    rows = connection.execute("SELECT id, by, at, reason, until FROM accepted_finding WHERE until > ?", (now,))
    return {row[0]: Acceptance(by=row[1], at=moment(row[2]), reason=row[3], until=moment(row[4])) for row in rows}
