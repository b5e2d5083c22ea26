"""Programs: looked for on a machine, and the catalogue of a big fleet beside a bare indexed query on the same file."""

from __future__ import annotations

import random
import sqlite3
import stat
import tempfile
import time
from pathlib import Path

from bench.measuring import Figure, Row, each, in_turns
from made_programs import portable_executable
from portero.core.nouns.device import Application
from portero.endpoint.folder import Folder
from portero.endpoint.inventory import Inventory
from portero.endpoint.running import INVENTORY_SECONDS
from portero.store import catalogue
from portero.store.catalogue import CatalogueFilter
from portero.store.database import Store

_ON_A_MACHINE, _VERSIONS = 300, 3


def inventory_rows(programs: int) -> list[Figure]:
    """The first look at so many programs, and what a later one takes of a core."""
    with tempfile.TemporaryDirectory() as temporary:
        root, chance = Path(temporary) / "bin", random.Random(1)
        root.mkdir()
        for number in range(programs):
            path = root / f"program-{number}"
            windows = portable_executable({"ProductName": f"Product {number}", "ProductVersion": f"1.{number}"})
            kind = (windows, b"#!/bin/sh\n", b"\x7fELF\x02\x01\x01" + b"\0" * 57)[number % 3]
            path.write_bytes(kind + chance.randbytes(100_000))
            path.chmod(path.stat().st_mode | stat.S_IXUSR)
        data = Path(temporary) / "data"
        data.mkdir()
        inventory = Inventory(Folder(data), (root,))
        began = time.perf_counter()
        inventory.look()
        first = time.perf_counter() - began
        before = time.process_time()
        inventory.look()
        again = time.process_time() - before
        assert len(inventory.applications) == programs
    return [
        Figure(f"first look at {programs:,} programs", first, "s", at_most=60),
        Figure("a later look each minute, of a core", 100 * again / INVENTORY_SECONDS, "%", at_most=1),
    ]


def _filled(connection: sqlite3.Connection, machines: int, programs: int) -> None:
    """Programs, and which machine has which, put in as they stand; the kept counts are counted once."""
    chance = random.Random(2)
    connection.executemany(
        "INSERT INTO program (id, identity, name, vendor, category, first, words) VALUES (?, ?, ?, ?, ?, ?, ?)",
        (
            (
                n,
                f'["product", "program {n}", "v"]',
                f"Program {n}",
                f"Vendor {n % 400}",
                f"purpose-{n % 14}",
                n,
                f"program {n}",
            )
            for n in range(1, programs + 1)
        ),
    )
    connection.executemany(
        "INSERT INTO program_version (id, program, fields, first) VALUES (?, ?, ?, ?)",
        (
            (n * _VERSIONS + v, n, f'["{n}", {{"version": "{v}.{n}"}}]', n)
            for n in range(1, programs + 1)
            for v in range(_VERSIONS)
        ),
    )
    connection.executemany(
        "INSERT INTO device (id, hostname, lifecycle, kind, labels, known_at, words)"
        " VALUES (?, ?, 'enrolled', 'other', '{}', 0, ?)",
        ((f"d{n:06}", f"machine-{n:06}", f"machine-{n:06}") for n in range(machines)),
    )

    connection.executemany(
        "INSERT INTO start_day (version, day, starts) VALUES (?, ?, ?)",
        (
            (n * _VERSIONS + v, day * 86_400.0, n % 50 + 1)
            for n in range(1, programs + 1)
            for v in range(_VERSIONS)
            for day in range(15)
        ),
    )

    def installed() -> object:
        weights = [1 / rank for rank in range(1, programs + 1)]
        pool = chance.choices(range(1, programs + 1), weights, k=200_000)
        for n in range(machines):
            begin = chance.randrange(len(pool) - 2 * _ON_A_MACHINE)
            own = set(pool[begin : begin + 2 * _ON_A_MACHINE])
            own.update(range(n % programs + 1, min(programs, n % programs + _ON_A_MACHINE)))
            for program in sorted(own)[:_ON_A_MACHINE]:
                yield f"d{n:06}", program * _VERSIONS + n % _VERSIONS

    connection.executemany("INSERT INTO installed (device, version) VALUES (?, ?)", installed())
    connection.execute(
        "UPDATE program_version SET devices = (SELECT count(*) FROM installed WHERE version = program_version.id)"
    )
    connection.execute(
        "UPDATE program SET devices = (SELECT sum(devices) FROM program_version WHERE program = program.id)"
    )


def catalogue_rows(machines: int, rounds: int) -> list[Row | Figure]:
    """Pages of the catalogue, beside the same rows by a bare query that an index answers."""
    programs, now = 20_000, 30_000.0
    with tempfile.TemporaryDirectory() as temporary:
        store = Store(Path(temporary) / "portero.sqlite3")
        with store.writing() as connection:
            _filled(connection, machines, programs)
        with store.reading() as connection:
            corrected = {f"program {n}": "office" for n in range(1, 201)}
            bare = "SELECT * FROM program WHERE devices > 0 ORDER BY devices DESC, id DESC LIMIT 100"

            def listed(_number: int) -> object:
                found = catalogue.list_programs(connection, CatalogueFilter(), corrected, now, None, 100)
                return [catalogue.entry_of(row, corrected) for row in found.rows]

            def sought(number: int) -> object:
                sifted = CatalogueFilter(q=f"program {number}", category="office")
                return catalogue.list_programs(connection, sifted, corrected, now, None, 100).rows

            def shown(number: int) -> object:
                return catalogue.versions_of(connection, number, 0.0)

            def machines_of(number: int) -> object:
                return catalogue.devices_with(connection, number, None, 100).rows

            numbers = list(range(1, 21))
            floor, page, search, show, having = in_turns(
                rounds,
                each(lambda _number: connection.execute(bare).fetchall(), numbers),
                each(listed, numbers),
                each(sought, numbers),
                each(shown, numbers),
                each(machines_of, numbers),
            )
        with store.writing() as connection:
            own = [
                Application(product=f"Program {n}", vendor="v", version=f"1.{n}") for n in range(1, _ON_A_MACHINE + 1)
            ]
            catalogue.note_programs(connection, "d000001", own, now)
            began = time.perf_counter()
            catalogue.note_programs(connection, "d000001", own[1:], now)
            noted = time.perf_counter() - began
        store.close()
    what = f"{machines:,} machines × {_ON_A_MACHINE} programs: "
    return [
        Row("floor: a hundred programs by a bare query", floor),
        Row(f"{what}a page of the catalogue", page, floor.median, goal=10),
        Row("a search over all of it", search, most_ms=100),
        Row("a program's versions", show, floor.median, goal=10),
        Row("the first machines that have a program", having, most_ms=500),
        Figure("a machine tells that one program of 300 is gone", 1000 * noted, "ms", at_most=50),
    ]
