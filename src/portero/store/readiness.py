"""What stands in the way of the fleet's layers: kept by device, counted by layer, unit and group."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from typing import NamedTuple

from portero.core.insight.readiness import NOT_IN_THE_WAY, Obstacle
from portero.core.nouns.readiness import BlockerCode
from portero.store.devices import MACHINE_BLOCKERS, DeviceFilter


def keep_obstacles(connection: sqlite3.Connection, device: str, obstacles: Iterable[Obstacle]) -> None:
    """What a device's facts put in the way, in place of what they did before."""
    connection.execute("DELETE FROM obstacle WHERE device = ?", (device,))
    rows: dict[tuple[str, str], tuple[int, str | None]] = {}
    for one in obstacles:
        # two browsers may stand in the way alike: one row, naming both
        key = (one.code.value, one.layer or "")
        about = "; ".join(part for part in (rows.get(key, (0, None))[1], one.about) if part) or None
        rows[key] = (one.rank, about)
    connection.executemany(
        "INSERT INTO obstacle (code, layer, device, rank, about) VALUES (?, ?, ?, ?, ?)",
        [(code, layer, device, rank, about) for (code, layer), (rank, about) in rows.items()],
    )


class ClassCount(NamedTuple):
    """The devices of one class in scope: all, and by what is known of the machine as a whole."""

    groups: tuple[str, ...]
    all: int
    invited: int
    revoked: int
    silent: int
    """Those that are silent and not shut out."""

    @property
    def heard(self) -> int:
        """Those that are heard of, so that what they report counts."""
        return self.all - self.invited - self.revoked - self.silent


def _scoped(filter: DeviceFilter, now: float) -> tuple[str, dict[str, object]]:
    where, values = filter.conditions()
    return " AND ".join(where), {**values, "now": now}


_HEARD = f"(device.lifecycle = 'enrolled' AND NOT device.revoked AND NOT {MACHINE_BLOCKERS[BlockerCode.SILENT]})"


def class_counts(connection: sqlite3.Connection, filter: DeviceFilter, now: float) -> list[ClassCount]:
    """The devices in scope, by class."""
    where, values = _scoped(filter, now)
    never, shut_out, silent = (
        MACHINE_BLOCKERS[code]
        for code in (BlockerCode.NEVER_JOINED, BlockerCode.CREDENTIAL_REVOKED, BlockerCode.SILENT)
    )
    rows = connection.execute(
        f"SELECT class.groups, count(*), sum({never}), sum({shut_out}), sum({silent} AND NOT ({shut_out}))"
        f" FROM device JOIN class ON class.id = device.class WHERE {where} GROUP BY device.class",
        values,
    )
    return [ClassCount(tuple(json.loads(row[0])), *row[1:]) for row in rows]


def machine_counts(connection: sqlite3.Connection, filter: DeviceFilter, now: float) -> dict[BlockerCode, int]:
    """How many devices each blocker that does not lie in their facts concerns."""
    where, values = _scoped(filter, now)
    sums = ", ".join(f"coalesce(sum({condition}), 0)" for condition in MACHINE_BLOCKERS.values())
    row = connection.execute(
        f"SELECT {sums} FROM device LEFT JOIN class ON class.id = device.class WHERE {where}", values
    ).fetchone()
    return {code: count for code, count in zip(MACHINE_BLOCKERS, row, strict=True) if count}


def first_obstacles(
    connection: sqlite3.Connection, filter: DeviceFilter, now: float
) -> dict[str, dict[BlockerCode, int]]:
    """By layer: how many devices that are heard of are kept from enforcing it, each at its first obstacle."""
    where, values = _scoped(filter, now)
    harmless = ", ".join(f"'{code.value}'" for code in sorted(NOT_IN_THE_WAY))
    found: dict[str, dict[BlockerCode, int]] = {}
    for layer, code, count in connection.execute(
        "SELECT layer, code, count(*) FROM ("
        " SELECT obstacle.layer, obstacle.code, min(obstacle.rank) FROM obstacle"
        " JOIN device ON device.id = obstacle.device LEFT JOIN class ON class.id = device.class"
        f" WHERE {where} AND {_HEARD} AND obstacle.layer <> '' AND obstacle.code NOT IN ({harmless})"
        " GROUP BY obstacle.layer, obstacle.device) GROUP BY 1, 2",
        values,
    ):
        found.setdefault(layer, {})[BlockerCode(code)] = count
    return found


def obstacle_counts(
    connection: sqlite3.Connection, filter: DeviceFilter, now: float
) -> dict[tuple[BlockerCode, str], int]:
    """How many joined devices each obstacle concerns, whatever else stands in their way."""
    where, values = _scoped(filter, now)
    rows = connection.execute(
        "SELECT obstacle.code, obstacle.layer, count(*) FROM obstacle JOIN device ON device.id = obstacle.device"
        " LEFT JOIN class ON class.id = device.class"
        f" WHERE {where} AND device.lifecycle = 'enrolled' GROUP BY 1, 2",
        values,
    )
    return {(BlockerCode(row[0]), row[1]): row[2] for row in rows}


def units(connection: sqlite3.Connection) -> list[str]:
    """Every unit that some device is in, in order."""
    rows = connection.execute(
        "SELECT DISTINCT unit FROM device WHERE unit IS NOT NULL AND lifecycle <> 'retired' ORDER BY unit"
    )
    return [row[0] for row in rows]
