"""The attempts that devices reported. A batch may be sent again; it counts once."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass
from typing import Any

from portero.core.nouns.activity import Activity, ActivityBatch, ReportedAttempt
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.store.estates import moment
from portero.store.paging import Query, Rows, like_pattern, page


def keep_batch(
    connection: sqlite3.Connection, device: str, batch: ActivityBatch, now: float, seq_offset: int = 0
) -> int:
    """Keep what the batch brings that is not kept yet; returns how many attempts were new.

    Attempts are known by their number. Counts have none, so they are taken only where the batch is a new one.
    The service's time rules: an attempt cannot have been made later than it was received.
    """
    before = connection.total_changes
    connection.executemany(
        "INSERT OR IGNORE INTO activity"
        " (device, seq, at, received_at, host, verdict, person, reference, test, document)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        [_values(device, attempt, now, seq_offset) for attempt in batch.attempts],
    )
    new = connection.total_changes - before
    fresh = connection.execute(
        "UPDATE device SET last_batch = ? WHERE id = ? AND last_batch < ?", (batch.batch, device, batch.batch)
    ).rowcount
    if fresh:
        connection.executemany(
            "INSERT INTO visit_count (device, hour, host, visits) VALUES (?, ?, ?, ?)"
            " ON CONFLICT (device, hour, host) DO UPDATE SET visits = visits + excluded.visits",
            [(device, count.hour.timestamp(), count.host, count.visits) for count in batch.counts],
        )
    return new


def _values(device: str, attempt: ReportedAttempt, now: float, seq_offset: int) -> tuple[Any, ...]:
    return (
        device,
        attempt.seq + seq_offset,
        min(attempt.at.timestamp(), now),
        now,
        attempt.host,
        attempt.verdict.value,
        attempt.user,
        attempt.reference,
        int(TAXONOMY.category_of_test_host(attempt.host) is not None),
        attempt.model_dump_json(exclude_none=True),
    )


@dataclass(frozen=True)
class ActivityFilter:
    """What a list of activity is narrowed to."""

    device: str | None = None
    host: str | None = None
    verdict: str | None = None
    user: str | None = None
    reference: str | None = None
    tests: bool = False

    def conditions(self) -> tuple[list[str], dict[str, Any]]:
        """The SQL conditions and their values."""
        where, values = [], {}
        for column, value in (
            ("activity.device", self.device),
            ("activity.verdict", self.verdict),
            ("activity.person", self.user),
            ("activity.reference", self.reference),
        ):
            if value:
                name = column.rpartition(".")[2]
                where.append(f"{column} = :{name}")
                values[name] = value
        if self.host:
            where.append("activity.host LIKE :host ESCAPE '\\'")
            values["host"] = like_pattern(self.host.lower())
        if not self.tests and not self.reference:
            where.append("activity.test = 0")
        return where, values


def list_activity(connection: sqlite3.Connection, filter: ActivityFilter, cursor: str | None, limit: int) -> Rows:
    """One page of activity, newest first; map its rows with `activity_of`."""
    where, values = filter.conditions()
    query = Query(
        "activity.*, device.hostname",
        "activity JOIN device ON device.id = activity.device",
        where,
        values,
        "activity.at",
        True,
        "activity.device || ':' || activity.seq",
    )
    return page(connection, query, cursor, limit)


def activity_of(row: sqlite3.Row) -> Activity:
    """A row as activity."""
    reported = ReportedAttempt.model_validate_json(row["document"])
    return Activity(
        **reported.model_dump(exclude={"at", "seq"}),
        seq=row["seq"],
        at=moment(row["at"]),
        device=row["device"],
        hostname=row["hostname"],
        received_at=moment(row["received_at"]),
        test=bool(row["test"]),
    )
