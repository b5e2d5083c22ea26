"""Pushes and the receipts of machines."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(slots=True)
class KeptReceipt:
    """How far one machine is with a push; times in seconds since 1970."""

    told_at: float | None = None
    fetched_at: float | None = None
    applied_at: float | None = None
    problem: str | None = None


@dataclass(frozen=True)
class KeptPush:
    """A push as it was asked for."""

    id: str
    at: float
    by: str
    scope: str
    reason: str | None


def add_push(connection: sqlite3.Connection, push: KeptPush, receipts: dict[str, KeptReceipt]) -> None:
    """Keep a push, with a receipt for each of its machines."""
    connection.execute(
        "INSERT INTO push (id, at, by, scope, reason) VALUES (?, ?, ?, ?, ?)",
        (push.id, push.at, push.by, push.scope, push.reason),
    )
    note_receipts(connection, ((push.id, device, receipt) for device, receipt in receipts.items()))


def note_receipts(connection: sqlite3.Connection, receipts: Iterable[tuple[str, str, KeptReceipt]]) -> None:
    """Keep receipts as they are now, of machines that are still known."""
    connection.executemany(
        "INSERT INTO receipt (push, device, told_at, fetched_at, applied_at, problem)"
        " SELECT ?, id, ?, ?, ?, ? FROM device WHERE id = ?"
        " ON CONFLICT (push, device) DO UPDATE SET told_at = excluded.told_at, fetched_at = excluded.fetched_at,"
        " applied_at = excluded.applied_at, problem = excluded.problem",
        (
            (push, receipt.told_at, receipt.fetched_at, receipt.applied_at, receipt.problem, device)
            for push, device, receipt in receipts
        ),
    )


def list_pushes(connection: sqlite3.Connection) -> list[KeptPush]:
    """All that are kept, the newest first."""
    rows = connection.execute("SELECT id, at, by, scope, reason FROM push ORDER BY at DESC, id")
    return [KeptPush(*row) for row in rows]


def receipts_of(connection: sqlite3.Connection, push: str) -> dict[str, KeptReceipt]:
    """The receipts of a push, by device."""
    rows = connection.execute(
        "SELECT device, told_at, fetched_at, applied_at, problem FROM receipt WHERE push = ?", (push,)
    )
    return {row[0]: KeptReceipt(*row[1:]) for row in rows}


def remove_push(connection: sqlite3.Connection, push: str) -> None:
    """Forget a push."""
    connection.execute("DELETE FROM push WHERE id = ?", (push,))
