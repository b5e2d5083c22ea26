"""The attempts that devices reported. A batch may be sent again; it counts once."""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from portero.core.insight.effects.list_use import IsAllowed, ListUse, RefusedBeside
from portero.core.nouns.activity import MOST_A_DAY, Activity, ActivityBatch, HourlyCount, ReportedAttempt
from portero.core.nouns.page import Page
from portero.core.nouns.verdict import RuleReference
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.store.activity_counts import COUNTED, DAY, HOUR, add_counts
from portero.store.database import Writer
from portero.store.devices import note_event
from portero.store.moments import moment
from portero.store.paging import Query, like_pattern, page
from portero.store.starts import note_starts
from portero.store.words import ids_of, words_of


def keep_batch(
    connection: Writer, device: str, batch: ActivityBatch, now: float, seq_offset: int = 0
) -> tuple[int, int]:
    """Keep what the batch brings that is not kept yet; returns how many attempts were new, and how many entries were
    dropped, where the device has handed over more than is kept of one in a day.

    Attempts are known by their number. Counts have none, so they are taken only where the batch is a new one.
    The service's time rules: an attempt cannot have been made later than it was received.
    """
    day = int(now // DAY)
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


def _take(connection: Writer, device: str, batch: ActivityBatch, now: float, seq_offset: int) -> tuple[int, bool]:
    """How many attempts were new; whether the batch itself was."""
    new = _new_of(connection, device, batch.attempts, seq_offset)
    moments = [min(attempt.at.timestamp(), now) for attempt in new]
    _keep_attempts(connection, device, new, moments, now, seq_offset)
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
    _note_seen(connection, device, zip(new, moments, strict=True), batch.counts if fresh else (), now)
    return len(new), bool(fresh)


def _new_of(
    connection: sqlite3.Connection, device: str, attempts: Sequence[ReportedAttempt], seq_offset: int
) -> list[ReportedAttempt]:
    """Those of a device's attempts that are not kept yet; of two with one number, the first."""
    if not attempts:
        return []
    numbers = [attempt.seq + seq_offset for attempt in attempts]
    rows = connection.execute(
        "SELECT seq FROM activity WHERE device = (SELECT id FROM activity_word WHERE kind = 'device' AND word = ?)"
        " AND seq BETWEEN ? AND ?",
        (device, min(numbers), max(numbers)),
    )
    kept = {row[0] for row in rows}
    first = dict(zip(reversed(numbers), reversed(attempts), strict=True))
    return [attempt for seq, attempt in reversed(first.items()) if seq not in kept]


def _note_seen(
    connection: sqlite3.Connection,
    device: str,
    attempts: Iterable[tuple[ReportedAttempt, float]],
    counts: Sequence[HourlyCount],
    now: float,
) -> None:
    """Where hosts were seen, and when: one row a host. Visits to test hosts are left out."""
    seen: dict[str, list[tuple[float, int]]] = {}
    for attempt, at in attempts:
        if attempt.host:
            seen.setdefault(attempt.host, []).append((at, 1))
    for count in counts:
        seen.setdefault(count.host, []).append((min(count.hour.timestamp(), now), count.visits))
    connection.executemany(
        "INSERT INTO host_seen (host, device, first, last, visits) VALUES (?, ?, ?, ?, ?)"
        " ON CONFLICT (host, device) DO UPDATE SET first = min(first, excluded.first),"
        " last = max(last, excluded.last), visits = visits + excluded.visits",
        [
            (host, device, min(at for at, _ in times), max(at for at, _ in times), sum(number for _, number in times))
            # in the order in which they are kept: neighbours are found together
            for host, times in sorted(seen.items())
            if not _is_test(host)
        ],
    )


_KINDS = ("host", "program", "start", "parent", "person", "browser", "categories", "rule", "bundle")
"""The columns whose values are words, in the order in which they are inserted."""
_COUNTED = [_KINDS.index(kind) for kind in COUNTED]
_COLUMNS = ("device", "seq", "at", "received_at", "verdict", "marks", "url", "reference", *_KINDS)
_CONTINUED, _LOGGED, _TEST, _FOUND, _ENDED = 1, 2, 4, 8, 16
_INSERT = f"INSERT INTO activity ({', '.join(_COLUMNS)}) VALUES ({', '.join('?' * len(_COLUMNS))})"


def _keep_attempts(
    connection: Writer,
    device: str,
    attempts: Sequence[ReportedAttempt],
    moments: Sequence[float],
    now: float,
    seq_offset: int,
) -> None:
    """Keep attempts that are new, made at these moments, and count them by hour and by day."""
    if not attempts:
        return
    said = list(zip(*map(_words, attempts), strict=True))
    sets = [{word for word in column if word is not None} for column in said]
    named = {(kind, word) for kind, words in zip(_KINDS, sets, strict=True) for word in words}
    ids = ids_of(connection, {("device", device)} | named, now)
    own = ids["device", device]
    columns = (
        [None if word is None else ids[kind, word] for word in column]
        for kind, column in zip(_KINDS, said, strict=True)
    )
    rows, counts = [], Counter[tuple[Any, ...]]()
    for attempt, at, words in zip(attempts, moments, zip(*columns, strict=True), strict=True):
        marks, verdict = _marks(attempt), attempt.verdict.value
        seq, url = attempt.seq + seq_offset, _without_host(attempt)
        rows.append((own, seq, at, now, verdict, marks, url, attempt.reference, *words))
        if not marks & _TEST:
            counts[(int(at) // HOUR * HOUR, *(words[place] or 0 for place in _COUNTED), verdict)] += 1
    connection.executemany(_INSERT, rows)
    add_counts(connection, counts)


def _words(attempt: ReportedAttempt) -> tuple[str | None, ...]:
    """What of an attempt is kept as words, in the order of their kinds."""
    program, winner = attempt.start, attempt.winner
    return (
        attempt.host,
        attempt.tried if program else None,
        program.model_dump_json(exclude_none=True) if program else None,
        attempt.parent,
        attempt.user,
        attempt.browser,
        _as_json(attempt.categories) if attempt.categories else None,
        _rule_as_json(type(winner), tuple(winner.__dict__.items())) if winner else None,
        attempt.bundle,
    )


@lru_cache(maxsize=4_096)
def _as_json(categories: tuple[str, ...]) -> str:
    return json.dumps(categories)


@lru_cache(maxsize=4_096)
def _rule_as_json(noun: type[RuleReference], fields: tuple[tuple[str, Any], ...]) -> str:
    """A rule as it is written. The same few are told again and again, each time as another object."""
    return noun.model_construct(**dict(fields)).model_dump_json(exclude_none=True)


@lru_cache(maxsize=16_384)
def _is_test(host: str) -> bool:
    return TAXONOMY.category_of_test_host(host) is not None


def _marks(attempt: ReportedAttempt) -> int:
    is_test = attempt.host is not None and _is_test(attempt.host)
    running = {"found": _FOUND, "ended": _ENDED}.get(attempt.running or "", 0)
    return _CONTINUED * attempt.continued + _LOGGED * attempt.logged + _TEST * is_test + running


def _without_host(attempt: ReportedAttempt) -> str | None:
    """The URL, as short as it can be told from its host."""
    scheme, found, rest = (attempt.url or "").partition(f"://{attempt.host}")
    return f"{scheme}:{rest}" if found and rest.startswith(("/", "?", "#")) and rest[:2] != "//" else attempt.url


def _with_host(url: str | None, host: str | None) -> str | None:
    """The URL as it was."""
    scheme, _, rest = (url or "").partition(":")
    return url if url is None or rest.startswith("//") else f"{scheme}://{host}{rest}"


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
        for name, value in (("verdict", self.verdict), ("reference", self.reference)):
            if value:
                where.append(f"activity.{name} = :{name}")
                values[name] = value
        said = "SELECT id FROM activity_word WHERE kind = '{}' AND word {}"
        if self.device:
            where.append(f"activity.device = ({said.format('device', '= :device')})")
            values["device"] = self.device
        if self.people is not None:
            among = said.format("person", "IN (SELECT value FROM json_each(:people))")
            where.append(f"activity.person IN ({among})")
            values["people"] = json.dumps(self.people)
        for kind, sought in (("host", self.host.lower() if self.host else None), ("program", self.program)):
            if sought:
                like = said.format(kind, f"LIKE :{kind} ESCAPE '\\'")
                where.append(f"activity.{kind} IN ({like})")
                values[kind] = like_pattern(sought)
        if not self.tests and not self.reference:
            where.append(f"activity.marks & {_TEST} = 0")
        return where, values


def people(connection: sqlite3.Connection) -> list[str]:
    """Everybody of whom there is activity, as machines write them."""
    rows = connection.execute(
        "SELECT word FROM activity_word WHERE kind = 'person'"
        " AND EXISTS (SELECT 1 FROM activity WHERE person = activity_word.id) ORDER BY word"
    )
    return [row[0] for row in rows]


def list_activity(
    connection: sqlite3.Connection, filter: ActivityFilter, cursor: str | None, limit: int
) -> Page[Activity]:
    """One page of activity, newest first."""
    where, values = filter.conditions()
    query = Query(
        "activity.*, device.id AS device_id, device.hostname",
        "activity CROSS JOIN activity_word AS own ON own.id = activity.device"
        " CROSS JOIN device ON device.id = own.word",
        where,
        values,
        "activity.at",
        True,
        "activity.device || ':' || activity.seq",
        counted="activity",
    )
    found = page(connection, query, cursor, limit)
    words = words_of(connection, (row[kind] for row in found.rows for kind in _KINDS))
    items = [_activity_of(row, words) for row in found.rows]
    return Page(items=items, next=found.next, total=found.total)


def _activity_of(row: sqlite3.Row, words: Mapping[int, str]) -> Activity:
    said = {kind: words.get(row[kind]) for kind in _KINDS}
    marks = row["marks"]
    return Activity(
        seq=row["seq"],
        at=moment(row["at"]),
        url=_with_host(row["url"], said["host"]),
        host=said["host"],
        start=json.loads(said["start"]) if said["start"] else None,
        parent=said["parent"],
        running="found" if marks & _FOUND else "ended" if marks & _ENDED else None,
        user=said["person"],
        browser=said["browser"],
        categories=json.loads(said["categories"]) if said["categories"] else (),
        verdict=row["verdict"],
        continued=bool(marks & _CONTINUED),
        logged=bool(marks & _LOGGED),
        winner=json.loads(said["rule"]) if said["rule"] else None,
        reference=row["reference"],
        bundle=said["bundle"],
        device=row["device_id"],
        hostname=row["hostname"],
        received_at=moment(row["received_at"]),
        test=bool(marks & _TEST),
    )


def hosts_stopped_on(connection: sqlite3.Connection, device: str, since: float, limit: int) -> list[str]:
    """The hosts that were stopped most often on a device since a moment."""
    rows = connection.execute(
        "SELECT host.word FROM activity JOIN activity_word AS host ON host.id = activity.host"
        " WHERE activity.device = (SELECT id FROM activity_word WHERE kind = 'device' AND word = ?)"
        f" AND at >= ? AND verdict = 'block' AND marks & {_TEST} = 0"
        " GROUP BY activity.host ORDER BY count(*) DESC, host.word LIMIT ?",
        (device, since, limit),
    )
    return [row[0] for row in rows]


MOST_REFUSALS = 50_000
"""So many hours of refusals are looked at."""


def list_use(connection: sqlite3.Connection, ruleset: str, is_allowed: IsAllowed, since: float) -> ListUse:
    """How sites that a ruleset allows were used, and what it refused beside them, since a moment, by the hour."""
    refused: dict[tuple[str, float], dict[str, int]] = {}
    for device, hour, host, number in connection.execute(
        "SELECT own.word, CAST(at / 3600 AS INTEGER) * 3600.0 AS hour, host.word, count(*) FROM activity"
        " JOIN activity_word AS own ON own.id = activity.device JOIN activity_word AS host ON host.id = activity.host"
        " WHERE rule IN (SELECT id FROM activity_word WHERE kind = 'rule' AND word ->> '$.ruleset' = ?)"
        f" AND at >= ? AND verdict = 'block' AND marks & {_TEST} = 0"
        " GROUP BY activity.device, hour, activity.host LIMIT ?",
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
        f"SELECT DISTINCT url, named.word FROM activity JOIN activity_word AS named ON named.id = activity.host"
        f" WHERE at >= ? AND marks & {_TEST} = 0 AND activity.host IN ("
        "SELECT id FROM activity_word WHERE kind = 'host' AND word IN (SELECT value FROM json_each(?))) LIMIT ?",
        (since, json.dumps(list(hosts)), most),
    )
    return [(_with_host(row[0], row[1]) or "", row[1]) for row in rows]
