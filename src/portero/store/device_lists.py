"""Devices as lists and pages show them, and how far the roll-out of bundles to them is."""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from portero.core.nouns.device import Application, Device, DeviceEvent, Facts, Lifecycle
from portero.core.nouns.readiness import ORDER, BlockerCode
from portero.core.nouns.rollout import RolloutCounts, RolloutState
from portero.store.moments import moment
from portero.store.paging import Query, Rows, page
from portero.store.revisions import newest_revision

FACTS_STALE_SECONDS = 3 * 86_400.0
"""A device that checks in but has told no facts for so long has stale ones."""

_NOT_RETIRED, _QUIET = "device.lifecycle <> 'retired'", "device.silent_after < :now"
_SILENT = f"(device.lifecycle = 'enrolled' AND {_QUIET})"
_WANTED = "coalesce(device.overlay, class.digest)"
# one that says that it can use no category index does not do what it should, whatever else it holds
_CURRENT = f"(device.applied_bundle IS {_WANTED} AND device.applied_index IS NOT '')"
_FAILED = "(device.apply_failed_at >= class.since)"
_STATE = (
    f"CASE WHEN device.lifecycle <> 'enrolled' THEN NULL WHEN {_CURRENT} THEN 'current' WHEN {_SILENT} THEN 'silent'"
    f" WHEN {_FAILED} THEN 'failed' ELSE 'waiting' END"
)
# by numbers, which SQLite groups quicker than words
_TOLD_SILENT, _TOLD_FAILED, _TOLD_LATE, _TOLD_WAITING = range(4)
_SOURCE = "device LEFT JOIN class ON class.id = device.class"
# Where every device is looked at anyway, going through the table beats going through an index of it; SQLite's planner
# believes otherwise, for the join's sake.
_SCANNED = "device NOT INDEXED LEFT JOIN class ON class.id = device.class"
# What lies not in a device's own facts: SQL conditions, by the blocker's code.
MACHINE_BLOCKERS: dict[BlockerCode, str] = {
    BlockerCode.NEVER_JOINED: "device.lifecycle = 'invited'",
    BlockerCode.REJOIN_WAITING: "device.rejoin_of IS NOT NULL",
    BlockerCode.DUPLICATE_HOSTNAME: "device.lifecycle <> 'retired' AND NOT device.keeps_name",
    BlockerCode.CREDENTIAL_REVOKED: "device.lifecycle = 'enrolled' AND device.revoked",
    BlockerCode.SILENT: _SILENT,
    BlockerCode.FACTS_STALE: (
        f"device.lifecycle = 'enrolled' AND NOT {_SILENT} AND device.facts_at < :now - {FACTS_STALE_SECONDS}"
    ),
}
MACHINE_BLOCKERS_SELECT = " || ".join(
    f"CASE WHEN {condition} THEN '{code.value} ' ELSE '' END" for code, condition in MACHINE_BLOCKERS.items()
)
"""The codes of those that are true of a device, each with a blank behind it."""
_SELECT = (
    "device.*, (SELECT document FROM device_facts WHERE device_facts.device = device.id) AS facts,"
    f" class.groups, {_WANTED} AS digest, class.revision, class.since, {_SILENT} AS silent, {_STATE} AS state,"
    f" {MACHINE_BLOCKERS_SELECT} AS machine_blockers"
)

SORTS = {
    name: f"coalesce({column}, '')"
    for name, column in {
        "hostname": "device.hostname",
        "kind": "device.kind",
        "unit": "device.unit",
        "os": "device.os_family || ' ' || coalesce(device.os_version, '')",
        "serial": "device.serial",
        "place": "device.place",
        "zone": "device.zone",
        "filter": "device.filter_layer",
        "browser": "device.browser_layer",
        "startup": "device.startup_layer",
        "lifecycle": f"CASE WHEN {_SILENT} THEN 'silent' ELSE device.lifecycle END",
        "rollout": _STATE,
    }.items()
} | {
    # names, units and times are indexed as they stand
    "hostname": "device.hostname",
    "joined": "coalesce(device.joined_at, 0.0)",
    "last_heard": "coalesce(device.last_heard, 0.0)",
}


@dataclass(frozen=True)
class DeviceFilter:
    """What a list of devices is narrowed to. Retired ones are left out unless asked for."""

    search: str | None = None
    unit: str | None = None
    kind: str | None = None
    group: str | None = None
    lifecycle: str | None = None
    rollout: str | None = None
    blocker: str | None = None
    layer: str | None = None
    ids: frozenset[str] | None = None

    def conditions(self) -> tuple[list[str], dict[str, Any]]:
        """The SQL conditions and their values."""
        where: list[str] = []
        values: dict[str, Any] = {}
        if self.search:
            where.append("(instr(device.words, :search) OR device.id = :search)")
            values["search"] = self.search.strip().lower()
        if self.unit:
            where.append("(device.unit = :unit OR substr(device.unit, 1, length(:unit) + 1) = :unit || '/')")
            values["unit"] = self.unit
        if self.kind:
            where.append("device.kind = :kind")
            values["kind"] = self.kind
        if self.group:
            where.append("device.class IN (SELECT class FROM class_group WHERE group_key = :group)")
            values["group"] = self.group
        if self.rollout:
            where.append(f"{_STATE} = :state")
            values["state"] = self.rollout
        if self.ids is not None:
            where.append("is_chosen(device.id)")
        self._lifecycle(where)
        self._blocker(where, values)
        return where, values

    def _lifecycle(self, where: list[str]) -> None:
        if self.lifecycle in ("invited", "retired"):
            where.append(f"device.lifecycle = '{self.lifecycle}'")
        elif self.lifecycle:
            where.append(_SILENT if self.lifecycle == "silent" else f"device.lifecycle = 'enrolled' AND NOT {_SILENT}")
        else:
            where.append(_NOT_RETIRED)

    def _blocker(self, where: list[str], values: dict[str, Any]) -> None:
        if not self.blocker:
            return
        condition = MACHINE_BLOCKERS.get(BlockerCode(self.blocker))
        if condition:
            where.append(f"({condition})")
            return
        of_layer = " AND layer = :layer" if self.layer else ""
        kept = f"SELECT device FROM obstacle WHERE code = :code{of_layer}"
        where.append(f"device.lifecycle = 'enrolled' AND device.id IN ({kept})")
        values["code"] = self.blocker
        if self.layer:
            values["layer"] = self.layer


EXCEPTIONAL = (
    "device.lifecycle <> 'enrolled' OR device.rejoin_of IS NOT NULL OR NOT device.keeps_name OR device.revoked"
    f" OR {_QUIET} OR device.facts_at < :now - {FACTS_STALE_SECONDS}"
)
"""SQL: one of MACHINE_BLOCKERS may be true; quicker than to ask which, of machines most of which have none."""


def machine_blockers(row: sqlite3.Row) -> list[BlockerCode]:
    """What is in a device's way besides its own facts, as MACHINE_BLOCKERS_SELECT found it."""
    return [BlockerCode(code) for code in row["machine_blockers"].split()]


def _obstacles_of(connection: sqlite3.Connection, ids: list[str]) -> dict[str, list[BlockerCode]]:
    found: dict[str, list[BlockerCode]] = {}
    for row in connection.execute(
        "SELECT DISTINCT device, code FROM obstacle WHERE device IN (SELECT value FROM json_each(?))",
        (json.dumps(ids),),
    ):
        found.setdefault(row[0], []).append(BlockerCode(row[1]))
    return found


def devices_of(connection: sqlite3.Connection, rows: list[sqlite3.Row], now: float) -> list[Device]:
    """Joined rows as devices."""
    obstacles = _obstacles_of(connection, [row["id"] for row in rows])
    return [_device_of(row, obstacles.get(row["id"], []), now) for row in rows]


def _device_of(row: sqlite3.Row, obstacles: list[BlockerCode], now: float) -> Device:
    lifecycle = Lifecycle.SILENT if row["silent"] else Lifecycle(row["lifecycle"])
    known = machine_blockers(row) + (obstacles if row["lifecycle"] == "enrolled" else [])
    return Device(
        id=row["id"],
        hostname=row["hostname"],
        lifecycle=lifecycle,
        facts=Facts.model_validate_json(row["facts"]),
        labels=json.loads(row["labels"]),
        groups=tuple(json.loads(row["groups"])) if row["groups"] else (),
        joined_at=moment(row["joined_at"]),
        last_heard=moment(row["last_heard"]),
        usual_interval=row["usual_interval"],
        silent_after=moment(row["silent_after"]) if row["lifecycle"] == "enrolled" else None,
        facts_at=moment(row["facts_at"]),
        bundle=row["digest"],
        applied_bundle=row["applied_bundle"],
        applied_revision=row["applied_revision"],
        applied_index=row["applied_index"],
        applied_at=moment(row["applied_at"]),
        rollout=_rollout_of(row, now),
        blockers=tuple(sorted(known, key=lambda code: ORDER[code])),
        rejoin_of=row["rejoin_of"],
        version=row["version"],
    )


def _choose(connection: sqlite3.Connection, filter: DeviceFilter | None) -> None:
    """Let SQL ask which devices are among those chosen."""
    if filter is not None and filter.ids is not None:
        connection.create_function("is_chosen", 1, filter.ids.__contains__, deterministic=True)


def list_devices(
    connection: sqlite3.Connection,
    filter: DeviceFilter,
    now: float,
    *,
    sort: str = "hostname",
    descending: bool = False,
    cursor: str | None = None,
    limit: int = 100,
) -> Rows:
    """One page of devices; map its rows with `devices_of`."""
    where, values = filter.conditions()
    _choose(connection, filter)
    # the values name :now even where no condition uses it; SQLite takes unused names
    source = _SOURCE if sort == "hostname" or filter.group else _SCANNED
    counted = _SOURCE if filter.rollout else "device"
    query = Query("device.id", source, where, {**values, "now": now}, SORTS[sort], descending, "device.id", counted)
    # conditions are asked of the devices that are not retired, so their number is that of all that match
    total = len(filter.ids) if filter.ids is not None and filter == DeviceFilter(ids=filter.ids) else None
    found = page(connection, query, cursor, limit, total)
    # sorted first, fetched second: the sorter would carry the facts of every device along
    ids = [row["id"] for row in found.rows]
    whole = {
        row["id"]: row
        for row in connection.execute(
            f"SELECT {_SELECT} FROM {_SOURCE} WHERE device.id IN (SELECT value FROM json_each(:ids))",
            {"ids": json.dumps(ids), "now": now},
        )
    }
    return Rows([whole[id] for id in ids], found.next, found.total)


def find_devices(connection: sqlite3.Connection, name: str, now: float) -> list[Device]:
    """The device of that id, or all devices of that hostname; retired ones only where there is no other."""
    rows = connection.execute(
        f"SELECT {_SELECT} FROM {_SOURCE} WHERE device.id = :name OR device.hostname = :lower",
        {"name": name, "lower": name.lower(), "now": now},
    ).fetchall()
    present = [row for row in rows if row["lifecycle"] != "retired" or row["id"] == name]
    return devices_of(connection, present or rows, now)


def list_events(connection: sqlite3.Connection, device: str, limit: int = 100) -> list[DeviceEvent]:
    """What was done to a device, newest first."""
    rows = connection.execute(
        "SELECT at, by, what, reason FROM device_event WHERE device = ? ORDER BY id DESC LIMIT ?", (device, limit)
    )
    return [DeviceEvent(at=moment(row[0]), by=row[1], what=row[2], reason=row[3]) for row in rows]


def _rollout_of(row: sqlite3.Row, now: float) -> RolloutState | None:
    """A joined row as the device's roll-out state."""
    if row["state"] is None:
        return None
    since = {
        "current": row["applied_at"],
        "waiting": max(row["since"], row["joined_at"]),
        "failed": row["apply_failed_at"],
        "silent": row["last_heard"],
    }[row["state"]]
    expected = None
    if row["state"] == "waiting" and row["usual_interval"]:
        expected = max(0.0, row["last_heard"] + row["usual_interval"] - now)
    return RolloutState(
        state=row["state"],
        since=moment(since),
        revision=row["applied_revision"],
        wanted_revision=row["revision"],
        expected_in=expected,
        problem=row["apply_problem"] if row["state"] == "failed" else None,
    )


def rollout_counts(connection: sqlite3.Connection, now: float, filter: DeviceFilter | None = None) -> RolloutCounts:
    """How many of the devices are in each roll-out state; those that never joined, or are retired, are in none."""
    return _rollout(connection, now, filter or DeviceFilter(), 0.0)[0]


def rollout_and_late(connection: sqlite3.Connection, now: float, seconds: float) -> tuple[RolloutCounts, int]:
    """The same of all; and how many that are heard of have waited longer than this for their newest bundle."""
    return _rollout(connection, now, DeviceFilter(), seconds)


def _rollout(
    connection: sqlite3.Connection, now: float, filter: DeviceFilter, seconds: float
) -> tuple[RolloutCounts, int]:
    where, values = filter.conditions()
    _choose(connection, filter)
    # each condition costs a look at every machine: what the first one says already is left out
    conditions = " AND ".join(["device.lifecycle = 'enrolled'", *(one for one in where if one != _NOT_RETIRED)])
    asked = {**values, "now": now, "seconds": seconds}
    every_of, others_of = ("device", _SCANNED) if filter == DeviceFilter() else (_SOURCE, _SOURCE)
    (every,) = connection.execute(f"SELECT count(*) FROM {every_of} WHERE {conditions}", asked).fetchone()
    # most hold their newest bundle: only the others are told apart, each looked at once
    told = (
        f"CASE WHEN {_QUIET} THEN {_TOLD_SILENT} WHEN {_FAILED} THEN {_TOLD_FAILED}"
        f" WHEN max(class.since, device.joined_at) < :now - :seconds THEN {_TOLD_LATE} ELSE {_TOLD_WAITING} END"
    )
    rows = connection.execute(
        f"SELECT {told}, count(*) FROM {others_of} WHERE {conditions} AND NOT {_CURRENT} GROUP BY 1", asked
    )
    counts: Counter[int] = Counter(dict(rows.fetchall()))
    late = counts[_TOLD_LATE]
    numbers = {
        "silent": counts[_TOLD_SILENT],
        "failed": counts[_TOLD_FAILED],
        "waiting": counts[_TOLD_WAITING] + late,
    }
    current = every - sum(numbers.values())
    return RolloutCounts(revision=newest_revision(connection), current=current, **numbers), late


def enrolled(connection: sqlite3.Connection, filter: DeviceFilter, now: float, behind: bool = False) -> list[str]:
    """Ids of the enrolled devices among those wanted; `behind`: of those that do not hold their newest bundle."""
    where, values = filter.conditions()
    _choose(connection, filter)
    chosen = " AND ".join(["device.lifecycle = 'enrolled'", *where, *([f"NOT {_CURRENT}"] if behind else [])])
    rows = connection.execute(f"SELECT device.id FROM {_SOURCE} WHERE {chosen}", {**values, "now": now})
    return [row[0] for row in rows]


def rhythms(connection: sqlite3.Connection, devices: Iterable[str]) -> dict[str, tuple[float, float | None]]:
    """When each of these devices that is enrolled and not silent was last heard of, and its usual interval in seconds,
    by id.
    """
    rows = connection.execute(
        "SELECT device.id, last_heard, usual_interval FROM json_each(?) AS asked"
        " CROSS JOIN device ON device.id = asked.value WHERE lifecycle = 'enrolled' AND NOT told_silent",
        (json.dumps(list(devices)),),
    )
    return {row[0]: (row[1], row[2]) for row in rows}


def class_sizes(connection: sqlite3.Connection) -> list[tuple[frozenset[str], int]]:
    """How many devices there are of each class, by its groups."""
    rows = connection.execute(
        "SELECT class.groups, count(*) FROM device JOIN class ON class.id = device.class GROUP BY device.class"
    )
    return [(frozenset(json.loads(groups)), number) for groups, number in rows]


def group_sizes(connection: sqlite3.Connection) -> dict[str, int]:
    """How many devices each group holds; groups with none are left out."""
    return dict(
        connection.execute(
            "SELECT group_key, sum(devices) FROM class_group"
            " JOIN (SELECT class, count(*) AS devices FROM device WHERE class IS NOT NULL GROUP BY class) USING (class)"
            " GROUP BY 1"
        ).fetchall()
    )


def all_applications(connection: sqlite3.Connection) -> list[Application]:
    """Every program that some device has told of, those of browsers among them, once."""
    rows = connection.execute(
        "SELECT DISTINCT item.value FROM device_facts, json_each(document, '$.applications') AS item"
        " UNION SELECT DISTINCT json_extract(item.value, '$.application') FROM device_facts,"
        " json_each(document, '$.browsers') AS item WHERE json_extract(item.value, '$.application') IS NOT NULL"
    )
    return [Application.model_validate_json(row[0]) for row in rows]


def count_reached(connection: sqlite3.Connection, groups: Sequence[str], names: Sequence[str] = ()) -> int:
    """How many devices are in at least one of the groups, or have one of the names (id, or hostname that is theirs)."""
    grouped, named = (", ".join("?" for _ in some) for some in (groups, names))
    return int(
        connection.execute(
            "SELECT count(*) FROM device WHERE"
            f" class IN (SELECT class FROM class_group WHERE group_key IN ({grouped}))"
            + (f" OR id IN ({named}) OR (keeps_name AND hostname IN ({named}))" if names else ""),
            (*groups, *names, *names),
        ).fetchone()[0]
    )
