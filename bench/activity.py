"""What machines report, from a batch's bytes to the store, beside writing bare rows into the same tables."""

from __future__ import annotations

import json
import random
import sqlite3
import tempfile
from collections.abc import Iterator
from pathlib import Path

from bench.measuring import Figure, Row, in_turns, whole
from portero.core.nouns.activity import ActivityBatch
from portero.store import activity
from portero.store.database import Store

NOW = 1_790_000_000.0
DEVICES, BATCH = 200, 100


def _batches(number: int, rng: random.Random) -> Iterator[tuple[str, bytes]]:
    """Batches of a hundred attempts, each of a machine: its people, sites and rules are few."""
    hosts = [f"host-{place}.site-{place % 300}.example" for place in range(2_000)]
    rules = [
        {
            "ruleset": f"rules-{place % 40}",
            "rule": place % 12 + 1,
            "assignment": f"assignment-{place}",
            "target": f"group-{place % 30}",
            "action": "block",
            "mandatory": False,
            "selector": f"category c{place % 12}",
        }
        for place in range(300)
    ]
    for batch in range(number):
        device, hour = f"00000000-0000-4000-8000-{batch % DEVICES:012}", batch // DEVICES % 24
        attempts = []
        for place in range(BATCH):
            host = hosts[min(int(rng.expovariate(1 / 200)), len(hosts) - 1)]
            seq = batch // DEVICES * BATCH + place + 1
            at = f"2026-09-20T{hour:02}:{place % 60:02}:00Z"
            attempts.append(
                {
                    "seq": seq,
                    "at": at,
                    "url": f"https://{host}/page/{rng.randrange(50)}",
                    "host": host,
                    "user": f"post-{batch % DEVICES}",
                    "browser": "chromium",
                    "categories": ["games"],
                    "verdict": "block",
                    "winner": rng.choice(rules),
                    "bundle": f"sha256:{batch % 40:064}",
                }
            )
        yield device, json.dumps({"batch": batch + 1, "attempts": attempts}).encode()


def _opened(folder: Path) -> Store:
    store = Store(folder / "portero.sqlite3")
    with store.writing() as connection:
        connection.executemany(
            "INSERT INTO device (id, hostname, lifecycle, kind, words, known_at)"
            " VALUES (?, ?, 'enrolled', 'laptop', '', 0)",
            [(f"00000000-0000-4000-8000-{number:012}", f"host-{number}") for number in range(DEVICES)],
        )
    return store


def activity_rows(batches: int) -> list[Row | Figure]:
    """Batches taken ten at a time, as the service does."""
    made = list(_batches(batches, random.Random(8)))
    with tempfile.TemporaryDirectory() as first, tempfile.TemporaryDirectory() as second:
        store, bare = _opened(Path(first)), _opened(Path(second))

        def take() -> None:
            for begin in range(0, len(made), 10):
                with store.writing() as connection:
                    for device, body in made[begin : begin + 10]:
                        activity.keep_batch(connection, device, ActivityBatch.model_validate_json(body), NOW)

        (taking,) = in_turns(1, whole(take, batches * BATCH))
        tables = {table: _rows(store, table) for table in ("activity", "activity_hour", "activity_day", "host_seen")}
        words = _rows(store, "activity_word")

        def write() -> None:
            with bare.writing() as connection:
                _write(connection, "activity_word", words)
            step = BATCH * 10
            for begin in range(0, len(tables["activity"]), step):
                with bare.writing() as connection:
                    _write(connection, "activity", tables["activity"][begin : begin + step])
            with bare.writing() as connection:
                for table in ("activity_hour", "activity_day", "host_seen"):
                    _write(connection, table, tables[table])

        (writing,) = in_turns(1, whole(write, batches * BATCH))
        with store.reading() as connection:
            size = _bytes(connection)
        store.close()
        bare.close()
    return [
        Row("an attempt from its batch to the store (floor: bare rows)", taking, writing.median, goal=6, aim=2.5),
        Figure("an attempt in the store, with indexes", size / (batches * BATCH), "bytes", at_most=320),
    ]


def _rows(store: Store, table: str) -> list[tuple[object, ...]]:
    with store.reading() as connection:
        # as they came: by device, and in time
        return [tuple(row) for row in connection.execute(f"SELECT * FROM {table}")]


def _write(connection: sqlite3.Connection, table: str, rows: list[tuple[object, ...]]) -> None:
    connection.executemany(f"INSERT INTO {table} VALUES ({', '.join('?' * len(rows[0]))})", rows)


def _bytes(connection: sqlite3.Connection) -> int:
    """The pages of what is kept of attempts."""
    pages, free, size = (
        connection.execute(f"PRAGMA {name}").fetchone()[0] for name in ("page_count", "freelist_count", "page_size")
    )
    return int((pages - free) * size)
