"""The attempts that devices reported. A batch may be sent again; it counts once."""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from collections.abc import Collection
from dataclasses import dataclass
from typing import Any, NamedTuple

from portero.core.insight.effects.list_use import IsAllowed, ListUse, RefusedBeside
from portero.core.nouns.activity import MOST_A_DAY, Activity, ActivityBatch, ReportedAttempt
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.store.devices import note_event
from portero.store.moments import moment
from portero.store.paging import Query, Rows, like_pattern, page
from portero.store.starts import note_starts


def keep_batch(
    connection: sqlite3.Connection, device: str, batch: ActivityBatch, now: float, seq_offset: int = 0
) -> tuple[int, int]:
    """Keep what the batch brings that is not kept yet; returns how many attempts were new, and how many entries were
    dropped, where the device has handed over more than is kept of one in a day.

    Attempts are known by their number. Counts have none, so they are taken only where the batch is a new one.
    The service's time rules: an attempt cannot have been made later than it was received.
    """
    day = int(now // 86_400)
    had = _rows_of(connection, device, day)
    taken = _within(batch, max(0, MOST_A_DAY - had))
    new, fresh = _take(connection, device, taken, now, seq_offset)
    kept = new + (len(taken.counts) + len(taken.starts) if fresh else 0)
    dropped = _entries(batch) - _entries(taken)
    _note_rows(connection, device, day, kept, first_over=bool(dropped) and had <= MOST_A_DAY, now=now)
    return new, dropped


def _within(batch: ActivityBatch, left: int) -> ActivityBatch:
    """So many entries of a batch: attempts before counts of hosts, these before starts."""
    parts = {}
    for name in ("attempts", "counts", "starts"):
        parts[name] = getattr(batch, name)[:left]
        left -= len(parts[name])
    return batch.model_copy(update=parts)


def _entries(batch: ActivityBatch) -> int:
    return len(batch.attempts) + len(batch.counts) + len(batch.starts)


def _rows_of(connection: sqlite3.Connection, device: str, day: int) -> int:
    """How much activity the device has handed over on that day."""
    row = connection.execute("SELECT rows_day, rows_today FROM device WHERE id = ?", (device,)).fetchone()
    return int(row["rows_today"]) if row["rows_day"] == day else 0


def _note_rows(connection: sqlite3.Connection, device: str, day: int, kept: int, first_over: bool, now: float) -> None:
    connection.execute(
        "UPDATE device SET rows_today = ? + CASE WHEN rows_day = ? THEN rows_today ELSE 0 END, rows_day = ?"
        " WHERE id = ?",
        # beyond the most: told once, where the most was reached with nothing over, too
        (MOST_A_DAY + 1 if first_over else kept, day, day, device),
    )
    if first_over:
        told = f"handed over more than {MOST_A_DAY:,} entries of activity a day; the rest of today is not kept"
        note_event(connection, device, now, "service", told)


def _take(
    connection: sqlite3.Connection, device: str, batch: ActivityBatch, now: float, seq_offset: int
) -> tuple[int, bool]:
    """How many attempts were new; whether the batch itself was."""
    before = connection.total_changes
    connection.executemany(
        "INSERT OR IGNORE INTO activity"
        " (device, seq, at, received_at, host, program, verdict, person, reference, test, document)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
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
            [(device, min(count.hour.timestamp(), now), count.host, count.visits) for count in batch.counts],
        )
        note_starts(connection, device, batch.starts, now)
    _note_seen(connection, device, batch, new, bool(fresh), now)
    return new, bool(fresh)


def _note_seen(
    connection: sqlite3.Connection, device: str, batch: ActivityBatch, new: int, fresh: bool, now: float
) -> None:
    """Where hosts were seen, and when: one row a host of the batch. Visits to test hosts are left out."""
    seen: dict[str, list[tuple[float, int]]] = {}
    for attempt in (one for one in batch.attempts if new and one.host):
        seen.setdefault(attempt.host or "", []).append((min(attempt.at.timestamp(), now), 1))
    for count in batch.counts if fresh else ():
        seen.setdefault(count.host, []).append((min(count.hour.timestamp(), now), count.visits))
    connection.executemany(
        "INSERT INTO host_seen (host, device, first, last, visits) VALUES (?, ?, ?, ?, ?)"
        " ON CONFLICT (host, device) DO UPDATE SET first = min(first, excluded.first),"
        " last = max(last, excluded.last), visits = visits + excluded.visits",
        [
            (host, device, min(at for at, _ in times), max(at for at, _ in times), sum(number for _, number in times))
            for host, times in seen.items()
            if TAXONOMY.category_of_test_host(host) is None
        ],
    )


def _values(device: str, attempt: ReportedAttempt, now: float, seq_offset: int) -> tuple[Any, ...]:
    return (
        device,
        attempt.seq + seq_offset,
        min(attempt.at.timestamp(), now),
        now,
        attempt.host or "",
        attempt.tried if attempt.start else None,
        attempt.verdict.value,
        attempt.user,
        attempt.reference,
        int(attempt.host is not None and TAXONOMY.category_of_test_host(attempt.host) is not None),
        attempt.model_dump_json(exclude_none=True),
    )


@dataclass(frozen=True)
class ActivityFilter:
    """What a list of activity is narrowed to."""

    device: str | None = None
    host: str | None = None
    program: str | None = None
    verdict: str | None = None
    people: tuple[str, ...] | None = None
    """Any of these."""
    reference: str | None = None
    tests: bool = False

    def conditions(self) -> tuple[list[str], dict[str, Any]]:
        """The SQL conditions and their values."""
        where: list[str] = []
        values: dict[str, Any] = {}
        for column, value in (
            ("activity.device", self.device),
            ("activity.verdict", self.verdict),
            ("activity.reference", self.reference),
        ):
            if value:
                name = column.rpartition(".")[2]
                where.append(f"{column} = :{name}")
                values[name] = value
        if self.people is not None:
            where.append("activity.person IN (SELECT value FROM json_each(:people))")
            values["people"] = json.dumps(self.people)
        if self.host:
            where.append("activity.host LIKE :host ESCAPE '\\'")
            values["host"] = like_pattern(self.host.lower())
        if self.program:
            where.append("activity.program LIKE :program ESCAPE '\\'")
            values["program"] = like_pattern(self.program)
        if not self.tests and not self.reference:
            where.append("activity.test = 0")
        return where, values


def people(connection: sqlite3.Connection) -> list[str]:
    """Everybody of whom there is activity, as machines write them."""
    rows = connection.execute(
        # from one name to the next in the index: DISTINCT would go through all of it
        "WITH RECURSIVE person (name) AS (SELECT min(person) FROM activity UNION ALL"
        " SELECT (SELECT min(person) FROM activity WHERE person > name) FROM person WHERE name IS NOT NULL)"
        " SELECT name FROM person WHERE name IS NOT NULL"
    )
    return [row[0] for row in rows]


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


class Sightings(NamedTuple):
    """Where a host was seen: first and last, on how many machines, how often."""

    first: float
    last: float
    devices: int
    visits: int


def sightings(connection: sqlite3.Connection, host: str) -> Sightings | None:
    """Where a host was seen; None where it never was."""
    row = connection.execute(
        "SELECT min(first), max(last), count(*), sum(visits) FROM host_seen WHERE host = ?", (host,)
    ).fetchone()
    return Sightings(*row) if row[2] else None


def hosts_seen(connection: sqlite3.Connection) -> set[str]:
    """Every host that was seen on some machine."""
    return {row[0] for row in connection.execute("SELECT DISTINCT host FROM host_seen")}


MOST_STEPS = 200_000


def hosts_within(connection: sqlite3.Connection, domain: str, limit: int) -> list[str]:
    """Hosts that were seen at a domain or below it, by name. Of a great many hosts not all are looked at."""
    rows = connection.execute(
        # one step of the index for each host, however many machines saw it
        "WITH RECURSIVE seen (host) AS (SELECT min(host) FROM host_seen UNION ALL"
        " SELECT (SELECT min(host) FROM host_seen WHERE host > seen.host) FROM seen WHERE host IS NOT NULL LIMIT ?)"
        " SELECT host FROM seen WHERE host = ? OR substr(host, -length(?)) = ? LIMIT ?",
        (MOST_STEPS, domain, f".{domain}", f".{domain}", limit),
    )
    return [row[0] for row in rows]


def hosts_since(connection: sqlite3.Connection, since: float) -> list[tuple[str, Sightings]]:
    """The hosts that were seen since a moment, with all that is known of where."""
    rows = connection.execute(
        "SELECT host, min(first), max(last), count(*), sum(visits) FROM host_seen WHERE last >= ? GROUP BY host",
        (since,),
    )
    return [(row[0], Sightings(*row[1:])) for row in rows]


def devices_that_saw(connection: sqlite3.Connection, hosts: Collection[str], since: float) -> int:
    """On how many machines some of these hosts were seen since a moment."""
    return int(
        connection.execute(
            "SELECT count(DISTINCT device) FROM host_seen WHERE host IN (SELECT value FROM json_each(?)) AND last >= ?",
            (json.dumps(list(hosts)), since),
        ).fetchone()[0]
    )


MOST_REFUSALS = 50_000
"""So many hours of refusals are looked at."""


def list_use(connection: sqlite3.Connection, ruleset: str, is_allowed: IsAllowed, since: float) -> ListUse:
    """How sites that a ruleset allows were used, and what it refused beside them, since a moment, by the hour."""
    refused: dict[tuple[str, float], dict[str, int]] = {}
    for device, hour, host, number in connection.execute(
        "SELECT device, CAST(at / 3600 AS INTEGER) * 3600.0 AS hour, host, count(*) FROM activity"
        " WHERE json_extract(document, '$.winner.ruleset') = ? AND at >= ? AND verdict = 'block' AND test = 0"
        " GROUP BY device, hour, host LIMIT ?",
        (ruleset, since, MOST_REFUSALS),
    ):
        refused.setdefault((device, hour), {})[host] = number
    devices = frozenset(device for device, _ in refused)
    allowed: dict[str, bool] = {}
    opened: Counter[tuple[str, float]] = Counter()
    for device, hour, host, visits in connection.execute(
        "SELECT device, hour, host, visits FROM visit_count"
        " WHERE device IN (SELECT value FROM json_each(?)) AND hour >= ?",
        (json.dumps(sorted(devices)), since),
    ):
        if host not in allowed:
            allowed[host] = is_allowed(host)
        if allowed[host]:
            opened[device, hour] += visits
    refusals, together = Counter[str](), Counter[str]()
    for place, hosts in refused.items():
        for host, number in hosts.items():
            refusals[host] += number
            together[host] += opened[place]
    found = [RefusedBeside(host, refusals[host], number) for host, number in together.most_common() if number]
    return ListUse(opened.total(), devices, tuple(found))


def urls_since(
    connection: sqlite3.Connection, hosts: Collection[str], since: float, most: int
) -> list[tuple[str, str]]:
    """URLs on these hosts that were visited since a moment, each once, with their hosts; allowed visits leave none."""
    rows = connection.execute(
        "SELECT DISTINCT json_extract(document, '$.url'), host FROM activity WHERE at >= ? AND test = 0"
        " AND host IN (SELECT value FROM json_each(?)) LIMIT ?",
        (since, json.dumps(list(hosts)), most),
    )
    return [(row[0], row[1]) for row in rows]
