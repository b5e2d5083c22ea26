"""Runs as they are kept: the newest with their machines, older ones without."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable

from pydantic import TypeAdapter

from portero.core.nouns.page import Page
from portero.core.nouns.run import ProbeResult, Run, RunSummary
from portero.store.paging import Query, page

_RESULTS = TypeAdapter(tuple[ProbeResult, ...])
MOST_RUNS, MOST_WITH_DEVICES = 500, 20
"""So many runs are kept, and so many of them with their machines; the oldest go first."""


def add_run(connection: sqlite3.Connection, run: Run) -> int:
    """Keep a run that has just begun; gives its number. What is too old goes."""
    values = (run.at.timestamp(), run.by)
    cursor = connection.execute("INSERT INTO run (at, by, summary, results) VALUES (?, ?, '', '')", values)
    number = int(cursor.lastrowid or 0)
    connection.execute("DELETE FROM run WHERE id <= ?", (number - MOST_RUNS,))
    connection.execute("UPDATE run SET devices = NULL WHERE id <= ?", (number - MOST_WITH_DEVICES,))
    write_run(connection, run.model_copy(update={"id": number}), None)
    return number


def write_run(connection: sqlite3.Connection, run: Run, devices: bytes | None) -> None:
    """Keep what has come of a run, and, packed, on which machines."""
    summary, results = summary_of(run).model_dump_json(), _RESULTS.dump_json(run.results, exclude_defaults=True)
    connection.execute(
        "UPDATE run SET summary = ?, results = ?, devices = ? WHERE id = ?",
        (summary, results.decode(), devices, run.id),
    )


def end_interrupted(connection: sqlite3.Connection, problem: str) -> None:
    """Runs that were under way as the service was stopped have failed."""
    rows = connection.execute("SELECT id FROM run WHERE summary ->> '$.state' = 'running'").fetchall()
    for (id,) in rows:
        run = get_run(connection, id)
        assert run is not None
        failed = {"state": "failed", "problem": problem, "sentence": problem, "done": 1.0}
        write_run(connection, run.model_copy(update=failed), None)


def note_probed(connection: sqlite3.Connection, rules: Iterable[tuple[str, str]], at: float) -> None:
    """Rules, by ruleset and selector, have settled a probe."""
    connection.executemany(
        "INSERT INTO rule_probed (ruleset, selector, at) VALUES (?, ?, ?)"
        " ON CONFLICT DO UPDATE SET at = max(at, excluded.at)",
        [(*rule, at) for rule in rules],
    )


def probed_since(connection: sqlite3.Connection, since: float) -> dict[tuple[str, str], float]:
    """The rules that have settled a probe since a moment, and when last."""
    rows = connection.execute("SELECT ruleset, selector, at FROM rule_probed WHERE at >= ?", (since,))
    return {(row[0], row[1]): row[2] for row in rows}


def get_run(connection: sqlite3.Connection, id: int) -> Run | None:
    """One run."""
    row = connection.execute("SELECT summary, devices IS NOT NULL, results FROM run WHERE id = ?", (id,)).fetchone()
    return Run(**dict(_summary(row)), results=_RESULTS.validate_json(row[2])) if row else None


def devices_of(connection: sqlite3.Connection, id: int) -> bytes | None:
    """On which machines a run's probes did not come out, packed; None where that is not kept (any more)."""
    row = connection.execute("SELECT devices FROM run WHERE id = ?", (id,)).fetchone()
    return row[0] if row else None


def list_runs(connection: sqlite3.Connection, cursor: str | None, limit: int) -> Page[RunSummary]:
    """A page of runs, the newest first."""
    query = Query("summary, devices IS NOT NULL", "run", [], {}, "id", True, "id")
    found = page(connection, query, cursor, limit)
    return Page(items=list(map(_summary, found.rows)), next=found.next, total=found.total)


def summary_of(run: Run) -> RunSummary:
    """A run without what came of each probe."""
    return RunSummary(**{name: getattr(run, name) for name in RunSummary.model_fields})


def _summary(row: sqlite3.Row) -> RunSummary:
    return RunSummary.model_validate_json(row[0]).model_copy(update={"has_devices": bool(row[1])})
