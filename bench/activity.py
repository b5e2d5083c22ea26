"""What machines report, from a batch's bytes to the store, beside writing bare rows into the same tables."""

from __future__ import annotations

import json
import random
import sqlite3
import tempfile
from collections.abc import Iterable, Iterator
from itertools import islice
from operator import itemgetter
from pathlib import Path

from bench.measuring import Figure, Row, in_turns, whole
from portero.core.nouns.activity import ActivityBatch
from portero.store import activity
from portero.store.database import Store

NOW = 1_790_000_000.0
DEVICES, BATCH, AT_ONCE = 200, 100, 10
_TABLES = ("activity_word", "activity", "activity_hour", "activity_day", "host_seen")


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


def _grouped(batches: Iterator[tuple[str, bytes]], number: int) -> Iterator[list[tuple[str, bytes]]]:
    while some := list(islice(batches, number)):
        yield some


def _opened(folder: Path) -> Store:
    folder.mkdir()
    store = Store(folder / "portero.sqlite3")
    with store.writing() as connection:
        connection.executemany(
            "INSERT INTO device (id, hostname, lifecycle, kind, words, known_at)"
            " VALUES (?, ?, 'enrolled', 'laptop', '', 0)",
            [(f"00000000-0000-4000-8000-{number:012}", f"host-{number}") for number in range(DEVICES)],
        )
    return store


def activity_rows(batches: int) -> list[Row | Figure]:
    """Batches taken ten at a time, as the service does; in turns with the rows that come of them, written bare."""
    made = list(_grouped(_batches(batches, random.Random(8)), AT_ONCE))
    with tempfile.TemporaryDirectory() as folder:
        came_of, taken, bare = (_opened(Path(folder) / name) for name in ("came-of", "taken", "bare"))
        for some in made:
            _take(came_of, some)
        rows = {table: _rows(came_of, table) for table in _TABLES}
        for table in ("activity_hour", "activity_day", "host_seen"):
            # who visits what comes in no order of the hosts
            random.Random(table).shuffle(rows[table])
        rows["activity_hour"].sort(key=itemgetter(0))
        came_of.close()
        coming, written = iter(made), iter(range(len(made)))

        def take() -> None:
            _take(taken, next(coming))

        def write() -> None:
            place = next(written)
            with bare.writing() as connection:
                for table, own in rows.items():
                    share = slice(len(own) * place // len(made), len(own) * (place + 1) // len(made))
                    _write(connection, table, own[share])

        number = AT_ONCE * BATCH
        taking, writing = in_turns(len(made), whole(take, number), whole(write, number))
        with taken.reading() as connection:
            size = _bytes(connection)
        taken.close()
        bare.close()
    what = "an attempt from its batch to the store (floor: bare rows)"
    return [
        Row(what, taking, writing.median, goal=2.5 if batches >= 1_000 else 3, aim=1.7),
        Figure("an attempt in the store, with indexes", size / (batches * BATCH), "bytes", at_most=320),
    ]


def _take(store: Store, batches: Iterable[tuple[str, bytes]]) -> None:
    with store.writing() as connection:
        for device, body in batches:
            activity.keep_batch(connection, device, ActivityBatch.model_validate_json(body), NOW)


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
