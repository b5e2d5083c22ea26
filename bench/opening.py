"""Starting the service on a great fleet, beside its rows read and decoded bare; and what each machine then takes."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path

from bench.fleet import fleet_folder
from bench.measuring import Figure, Row, in_turns, whole
from portero.core.matching.members import facts_from_json
from portero.service.keepers import open_keepers
from portero.store.data_folder import DATABASE

_RESIDENT = """
import gc, pathlib, sys
from portero.service.keepers import open_keepers
keepers = open_keepers(pathlib.Path(sys.argv[1]))
gc.collect()
status = pathlib.Path("/proc/self/status").read_text()
print(next(line.split()[1] for line in status.splitlines() if line.startswith("VmRSS")))
keepers.close()
"""


def _resident(folder: Path) -> int:
    """The bytes that a service takes which has opened a folder."""
    done = subprocess.run([sys.executable, "-c", _RESIDENT, str(folder)], capture_output=True, text=True, check=True)
    return int(done.stdout) * 1024


def opening_rows(machines: int, rounds: int) -> list[Row | Figure]:
    """How long a start takes, and what of memory a machine."""
    with fleet_folder(machines) as folder, fleet_folder(0) as empty:

        def bare() -> object:
            with closing(sqlite3.connect(folder / DATABASE)) as connection:
                rows = connection.execute(
                    "SELECT device.*, document FROM device JOIN device_facts ON device_facts.device = device.id"
                )
                return [(row[:-1], facts_from_json(row[-1])) for row in rows]

        reading, opening = in_turns(min(rounds, 3), whole(bare, 1), whole(lambda: open_keepers(folder).close(), 1))
        each = (_resident(folder) - _resident(empty)) / machines
    return [
        Row(f"start at {machines:,} machines (floor: rows read and decoded)", opening, reading.median, goal=8, aim=5),
        Figure(f"start at {machines:,} machines: memory of each", each, "bytes", at_most=3_000),
    ]
