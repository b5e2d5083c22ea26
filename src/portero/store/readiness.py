"""What stands in the way of the fleet's layers: kept by device, counted by layer, unit and group."""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from collections.abc import Container, Iterable
from typing import NamedTuple

from portero.core.insight.readiness import NOT_IN_THE_WAY, Obstacle
from portero.core.nouns.readiness import ORDER, BlockerCode
from portero.store.device_lists import (
    EXCEPTIONAL,
    MACHINE_BLOCKERS,
    MACHINE_BLOCKERS_SELECT,
    DeviceFilter,
    machine_blockers,
)


def keep_obstacles(connection: sqlite3.Connection, device: str, obstacles: Iterable[Obstacle]) -> None:
    """What a device's facts put in the way, in place of what they did before."""
    connection.execute("DELETE FROM obstacle WHERE device = ?", (device,))
    rows: dict[tuple[str, str], tuple[int, str | None]] = {}
    for obstacle in obstacles:
        # two browsers may stand in the way alike: one row, naming both
        key = (obstacle.code.value, obstacle.layer or "")
        about = "; ".join(part for part in (rows.get(key, (0, None))[1], obstacle.about) if part) or None
        rows[key] = (obstacle.rank, about)
    connection.executemany(
        "INSERT INTO obstacle (code, layer, device, rank, about) VALUES (?, ?, ?, ?, ?)",
        [(code, layer, device, rank, about) for (code, layer), (rank, about) in rows.items()],
    )


class ClassCount(NamedTuple):
    """The devices of one class in scope: all, and by what is known of the machine as a whole."""

    groups: tuple[str, ...]
    all: int
    silent: int
    """Those that are silent and not shut out."""
    by_code: Counter[BlockerCode]

    @property
    def heard(self) -> int:
        """Those that are heard of, so that what they report counts."""
        gone = self.by_code[BlockerCode.NEVER_JOINED] + self.by_code[BlockerCode.CREDENTIAL_REVOKED]
        return self.all - gone - self.silent


class ObstacleCounts(NamedTuple):
    """How many devices their own facts keep from something."""

    every: dict[tuple[BlockerCode, str], int]
    """By code and layer: all joined devices, whatever else stands in their way."""
    first: dict[str, dict[BlockerCode, int]]
    """By layer: those that are heard of and kept from enforcing it, each at its first obstacle."""


def _scoped(filter: DeviceFilter, now: float) -> tuple[str, dict[str, object]]:
    where, values = filter.conditions()
    return " AND ".join(where), {**values, "now": now}


_SILENT = MACHINE_BLOCKERS[BlockerCode.SILENT]
_HARMLESS = {code.value for code in NOT_IN_THE_WAY}


def class_counts(connection: sqlite3.Connection, filter: DeviceFilter, now: float) -> tuple[list[ClassCount], set[str]]:
    """The devices in scope, by class; and those of them that are not heard of, by id."""
    where, values = _scoped(filter, now)
    totals = connection.execute(
        f"SELECT class, count(*) FROM device WHERE {where} AND class IS NOT NULL GROUP BY class", values
    ).fetchall()
    by_code: dict[int, Counter[BlockerCode]] = {}
    silent: Counter[int] = Counter()
    unheard: set[str] = set()
    # most devices are like most others: only the exceptional ones are looked at one by one
    for row in connection.execute(
        f"SELECT id, class, revoked, {_SILENT} AS silent, {MACHINE_BLOCKERS_SELECT} AS machine_blockers"
        f" FROM device WHERE {where} AND class IS NOT NULL AND ({EXCEPTIONAL})",
        values,
    ):
        by_code.setdefault(row["class"], Counter()).update(machine_blockers(row))
        silent[row["class"]] += row["silent"] and not row["revoked"]
        if row["silent"] or row["revoked"]:
            unheard.add(row["id"])
    groups = dict(connection.execute("SELECT id, groups FROM class").fetchall())
    counts = [
        ClassCount(tuple(json.loads(groups[id])), number, silent[id], by_code.get(id, Counter()))
        for id, number in totals
    ]
    return counts, unheard


def obstacle_counts(
    connection: sqlite3.Connection, filter: DeviceFilter, now: float, unheard: Container[str]
) -> ObstacleCounts:
    """How many devices in scope each obstacle concerns. Only devices that joined, and are not retired, have any."""
    where, values = _scoped(filter, now)
    # the few obstacles first, then their devices, where it matters which they are
    scope = "" if filter == DeviceFilter() else f" CROSS JOIN device ON device.id = obstacle.device WHERE {where}"
    every = {
        (BlockerCode(code), layer): number
        for code, layer, number in connection.execute(
            f"SELECT obstacle.code, obstacle.layer, count(*) FROM obstacle{scope} GROUP BY 1, 2", values
        )
    }
    first: dict[str, dict[str, BlockerCode]] = {}
    # those that are mended last come first, so that what stays is what is mended first
    for code, layer in sorted(every, key=lambda one: -ORDER[one[0]]):
        if layer and code not in NOT_IN_THE_WAY:
            rows = connection.execute(
                f"SELECT obstacle.device FROM obstacle{scope or ' WHERE true'}"
                " AND obstacle.code = :own_code AND obstacle.layer = :own_layer",
                {**values, "own_code": code, "own_layer": layer},
            )
            first.setdefault(layer, {}).update(dict.fromkeys((row[0] for row in rows), code))
    lost = {
        layer: dict(Counter(code for device, code in devices.items() if device not in unheard))
        for layer, devices in first.items()
    }
    return ObstacleCounts(every, {layer: counts for layer, counts in lost.items() if counts})


class UnitCount(NamedTuple):
    """The devices of one class in one unit."""

    unit: str
    groups: tuple[str, ...]
    all: int
    heard: int
    """Those that are heard of, so that what they report counts."""
    never_joined: int


class UnitCounts(NamedTuple):
    """How devices stand, unit by unit; those that are in no unit left out."""

    classes: list[UnitCount]
    kept: Counter[tuple[str, str]]
    """By unit and layer: those that are heard of and kept from enforcing it by their own facts."""


def unit_counts(connection: sqlite3.Connection, now: float) -> UnitCounts:
    """All devices, each looked at once however many units there are."""
    where, values = _scoped(DeviceFilter(), now)
    where += " AND unit IS NOT NULL AND class IS NOT NULL"
    totals = connection.execute(
        f"SELECT unit, class, count(*) FROM device WHERE {where} GROUP BY unit, class", values
    ).fetchall()
    gone: Counter[tuple[str, int]] = Counter()
    never_joined: Counter[tuple[str, int]] = Counter()
    unheard: set[str] = set()
    for row in connection.execute(
        f"SELECT id, unit, class, revoked, {_SILENT} AS silent, {MACHINE_BLOCKERS_SELECT} AS machine_blockers"
        f" FROM device WHERE {where} AND ({EXCEPTIONAL})",
        values,
    ):
        place, codes = (row["unit"], row["class"]), machine_blockers(row)
        never_joined[place] += BlockerCode.NEVER_JOINED in codes
        shut_out = BlockerCode.NEVER_JOINED in codes or BlockerCode.CREDENTIAL_REVOKED in codes
        gone[place] += shut_out or (row["silent"] and not row["revoked"])
        if row["silent"] or row["revoked"]:
            unheard.add(row["id"])
    groups = {id: tuple(json.loads(own)) for id, own in connection.execute("SELECT id, groups FROM class")}
    harmless = ", ".join(f"'{code}'" for code in sorted(_HARMLESS))
    kept = connection.execute(
        "SELECT DISTINCT obstacle.device, obstacle.layer, device.unit FROM obstacle"
        f" CROSS JOIN device ON device.id = obstacle.device WHERE {where}"
        f" AND obstacle.layer <> '' AND obstacle.code NOT IN ({harmless})",
        values,
    )
    return UnitCounts(
        [
            UnitCount(unit, groups[id], number, number - gone[unit, id], never_joined[unit, id])
            for unit, id, number in totals
        ],
        Counter((unit, layer) for device, layer, unit in kept if device not in unheard),
    )
