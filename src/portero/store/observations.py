"""What machines saw of probes, kept with the runs that asked them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from portero.core.nouns.observation import Observation
from portero.core.nouns.page import Page
from portero.store.paging import Query, page

MOST_RUNS = 20
"""Of so many observed runs it is kept what each machine saw."""


def keep(connection: sqlite3.Connection, seen: Sequence[Observation], cases: Mapping[tuple[str, int], bytes]) -> None:
    """Keep what a machine saw; and, packed, the cases of probes (by set and number) that it saw otherwise."""
    connection.executemany(
        "INSERT OR REPLACE INTO observation (run, device, probe_set, number, at, agrees, document, probe_case)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        [
            (
                one.run,
                one.device,
                one.set,
                one.number,
                one.at.timestamp(),
                None if one.agrees is None else int(one.agrees),
                one.model_dump_json(exclude_defaults=True),
                cases.get((one.set, one.number)),
            )
            for one in seen
        ],
    )
    connection.executemany(
        "INSERT INTO device_observed (device, at) VALUES (?, ?)"
        " ON CONFLICT (device) DO UPDATE SET at = max(at, excluded.at)",
        [(one.device, one.at.timestamp()) for one in seen if one.seen.verdict is not None],
    )


def note_settled(connection: sqlite3.Connection, seen: Sequence[Observation]) -> None:
    """Note of the assignments that settled what a machine saw in a run whether what they say came to be."""
    connection.executemany(
        "INSERT INTO assignment_observed (assignment, device, run, at, held) VALUES (?, ?, ?, ?, ?)"
        " ON CONFLICT (assignment, device) DO UPDATE SET run = excluded.run, at = excluded.at,"
        " held = CASE WHEN run = excluded.run THEN min(held, excluded.held) ELSE excluded.held END"
        " WHERE excluded.run >= run",
        [
            (assignment, one.device, one.run, one.at.timestamp(), int(one.agrees))
            for one in seen
            for assignment in one.settled_by
            if one.agrees is not None
        ],
    )


class SettledCount(NamedTuple):
    """How often what an assignment says was tried on the machines of a target, and how often it held."""

    machines: int
    held: int
    at: float
    run: int


def settled_counts(connection: sqlite3.Connection, targets: Sequence[str]) -> dict[tuple[str, str], SettledCount]:
    """The same by assignment and target: groups, and machines by their names."""
    counts = "count(*), sum(held), max(at), max(run)"
    source = "FROM assignment_observed JOIN device ON device.id = assignment_observed.device"
    given = "IN (SELECT value FROM json_each(:targets))"
    rows = connection.execute(
        f"SELECT assignment, group_key, {counts} {source} JOIN class_group USING (class) WHERE group_key {given}"
        f" GROUP BY 1, 2 UNION ALL SELECT assignment, hostname, {counts} {source} WHERE hostname {given} GROUP BY 1, 2"
        f" UNION ALL SELECT assignment, device.id, {counts} {source} WHERE device.id {given} GROUP BY 1, 2",
        {"targets": json.dumps(targets)},
    )
    return {(row[0], row[1]): SettledCount(*row[2:]) for row in rows}


def keep_pictures(connection: sqlite3.Connection, pictures: Sequence[tuple[Observation, bytes]], by: str) -> None:
    """Keep pictures of what was seen, and who asked for them."""
    connection.executemany(
        "INSERT OR REPLACE INTO picture (run, device, probe_set, number, at, by, png) VALUES (?, ?, ?, ?, ?, ?, ?)",
        [(one.run, one.device, one.set, one.number, one.at.timestamp(), by, png) for one, png in pictures],
    )


def picture_of(connection: sqlite3.Connection, run: int, device: str, probe_set: str, number: int) -> bytes | None:
    """The picture of what one machine saw of one probe in a run; None where there is none (any more)."""
    row = connection.execute(
        "SELECT png FROM picture WHERE run = ? AND device = ? AND probe_set = ? AND number = ?",
        (run, device, probe_set, number),
    ).fetchone()
    return row[0] if row else None


def drop_pictures(connection: sqlite3.Connection, before: float) -> None:
    """Pictures that are older go."""
    connection.execute("DELETE FROM picture WHERE at < ?", (before,))


def thin_out(connection: sqlite3.Connection) -> None:
    """What was seen in older runs goes; what came of them stays."""
    for table in ("observation", "assignment_observed"):
        connection.execute(
            f"DELETE FROM {table} WHERE run NOT IN (SELECT id FROM run WHERE summary ->> '$.kind' = 'observed'"
            " ORDER BY id DESC LIMIT ?)",
            (MOST_RUNS,),
        )


def seen_in(connection: sqlite3.Connection, run: int) -> list[Observation]:
    """All that was seen in a run, by machine."""
    rows = connection.execute("SELECT document FROM observation WHERE run = ? ORDER BY id", (run,))
    return [Observation.model_validate_json(row[0]) for row in rows]


def never_observed(connection: sqlite3.Connection, after: str, limit: int) -> tuple[int, int, list[str]]:
    """How many machines have joined, how many of them have tried something, and a page of the others: hostnames, behind
    one of them.
    """
    source = "FROM device LEFT JOIN device_observed ON device_observed.device = device.id WHERE lifecycle = 'enrolled'"
    machines, observed = connection.execute(f"SELECT count(*), count(device_observed.at) {source}").fetchone()
    rows = connection.execute(
        f"SELECT hostname {source} AND device_observed.at IS NULL AND hostname > ? ORDER BY hostname LIMIT ?",
        (after, limit),
    )
    return machines, observed, [row[0] for row in rows]


def list_observations(
    connection: sqlite3.Connection,
    run: int,
    probe_set: str | None,
    number: int | None,
    agrees: bool | None,
    cursor: str | None,
    limit: int,
) -> Page[Observation]:
    """A page of what was seen in a run: of one probe, or only what does (not) agree with what was predicted."""
    where, values = ["run = :run"], {"run": run, "set": probe_set, "number": number, "agrees": agrees}
    where += ["probe_set = :set"] if probe_set is not None else []
    where += ["number = :number"] if number is not None else []
    where += ["agrees = :agrees"] if agrees is not None else []
    found = page(connection, Query("document", "observation", where, values, "id", False, "id"), cursor, limit)
    items = [Observation.model_validate_json(row["document"]) for row in found.rows]
    return Page(items=items, next=found.next, total=found.total)


def case_of(connection: sqlite3.Connection, run: int, device: str, probe_set: str, number: int) -> bytes | None:
    """The case of what one machine saw of one probe in a run, packed; None where there is none."""
    row = connection.execute(
        "SELECT probe_case FROM observation WHERE run = ? AND device = ? AND probe_set = ? AND number = ?",
        (run, device, probe_set, number),
    ).fetchone()
    return row[0] if row else None


def newest_of(connection: sqlite3.Connection, device: str, limit: int) -> list[Observation]:
    """What a machine saw last of each probe, the newest first."""
    rows = connection.execute(
        "SELECT document, max(at) FROM observation WHERE device = ? GROUP BY probe_set, number"
        " ORDER BY max(at) DESC LIMIT ?",
        (device, limit),
    )
    return [Observation.model_validate_json(row[0]) for row in rows]


class Tally(NamedTuple):
    """How a probe, tried in these words and this way with this expectation, came out on the machines that tried it
    last so.
    """

    number: int
    tried: str
    how: str
    expected: str
    machines: int
    passed: int
    disagreeing: int
    at: float


def tallies(connection: sqlite3.Connection, probe_set: str) -> list[Tally]:
    """What the probes of a set came to, by what each machine saw last of each."""
    rows = connection.execute(
        "SELECT number, tried, how, expected, count(*), sum(verdict = expected), sum(agrees = 0), max(at) FROM ("
        " SELECT number, agrees, max(at) AS at, document ->> '$.tried' AS tried, document ->> '$.expected' AS expected,"
        " coalesce(document ->> '$.how', '') AS how, document ->> '$.seen.verdict' AS verdict FROM observation"
        " WHERE probe_set = ? AND agrees IS NOT NULL GROUP BY device, number) GROUP BY number, tried, how, expected",
        (probe_set,),
    )
    return [Tally(*row) for row in rows]


def disagreeing(connection: sqlite3.Connection, since: float, limit: int) -> list[Observation]:
    """What was seen otherwise than predicted since a moment, where that is the newest of its probe on its machine; the
    newest first.
    """
    rows = connection.execute(
        "SELECT document FROM (SELECT document, agrees, max(at) AS at FROM observation WHERE agrees IS NOT NULL"
        " AND at >= ? GROUP BY device, probe_set, number) WHERE agrees = 0 ORDER BY at DESC LIMIT ?",
        (since, limit),
    )
    return [Observation.model_validate_json(row[0]) for row in rows]
