"""The quick look for machines that something may stand in the way of passes none over."""

from __future__ import annotations

import sqlite3
from itertools import product

import pytest

from portero.store.device_lists import EXCEPTIONAL, MACHINE_BLOCKERS

NOW = 10_000_000.0
STATES = {
    "lifecycle": ("invited", "enrolled", "retired"),
    "rejoin_of": (None, "id-1"),
    "keeps_name": (0, 1),
    "revoked": (0, 1),
    "silent_after": (None, NOW - 1, NOW + 1),
    "facts_at": (None, 0.0, NOW),
}


@pytest.mark.parametrize("code", MACHINE_BLOCKERS)
def test_each_of_what_may_stand_in_the_way_is_met(code):
    with sqlite3.connect(":memory:") as connection:
        connection.execute(f"CREATE TABLE device ({', '.join(STATES)})")
        connection.executemany("INSERT INTO device VALUES (?, ?, ?, ?, ?, ?)", list(product(*STATES.values())))
        met, passed_over = connection.execute(
            f"SELECT count(*), total(coalesce({EXCEPTIONAL}, 0) = 0) FROM device WHERE {MACHINE_BLOCKERS[code]}",
            {"now": NOW},
        ).fetchone()
    assert met
    assert not passed_over
