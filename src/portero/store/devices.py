"""Devices, enrolment codes, and the roll-out of bundles to them."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass
from typing import Any

from portero.core.nouns.device import Device, Facts, Lifecycle
from portero.core.nouns.revision import RolloutCounts, RolloutState
from portero.store.estates import moment, newest_revision
from portero.store.paging import Query, Rows, like_pattern, page

LEAST_SILENCE = 180.0
"""Seconds: a device is not called silent before that, however quick its rhythm."""

# A device that has missed three of its own intervals is silent.
_SILENT = f"(device.last_heard < :now - max(3.0 * coalesce(device.usual_interval, 60.0), {LEAST_SILENCE}))"
_CURRENT = "(device.applied_bundle IS class.digest)"
_STATE = (
    f"CASE WHEN {_CURRENT} THEN 'current' WHEN {_SILENT} THEN 'silent'"
    " WHEN device.apply_failed_at >= class.since THEN 'failed' ELSE 'waiting' END"
)
_SOURCE = "device JOIN class ON class.id = device.class"
_SELECT = f"device.*, class.groups, class.digest, class.revision, class.since, {_SILENT} AS silent, {_STATE} AS state"

SORTS = {
    "hostname": "device.hostname",
    "kind": "device.kind",
    "unit": "coalesce(device.unit, '')",
    "last_heard": "device.last_heard",
}


@dataclass(frozen=True)
class DeviceFilter:
    """What a list of devices is narrowed to."""

    search: str | None = None
    unit: str | None = None
    kind: str | None = None
    group: str | None = None
    lifecycle: str | None = None
    rollout: str | None = None

    def conditions(self) -> tuple[list[str], dict[str, Any]]:
        """The SQL conditions and their values."""
        where: list[str] = []
        values: dict[str, Any] = {}
        if self.search:
            where.append("(device.hostname LIKE :search ESCAPE '\\' OR device.unit LIKE :search ESCAPE '\\')")
            values["search"] = like_pattern(self.search.strip().lower())
        if self.unit:
            where.append("(device.unit = :unit OR substr(device.unit, 1, length(:unit) + 1) = :unit || '/')")
            values["unit"] = self.unit
        if self.kind:
            where.append("device.kind = :kind")
            values["kind"] = self.kind
        if self.group:
            where.append("device.class IN (SELECT class FROM class_group WHERE group_key = :group)")
            values["group"] = self.group
        if self.lifecycle:
            silent = {"silent": _SILENT, "enrolled": f"NOT {_SILENT}"}.get(self.lifecycle, "0")
            where.append(silent)
        if self.rollout:
            where.append(f"{_STATE} = :state")
            values["state"] = self.rollout
        return where, values


def device_of(row: sqlite3.Row, now: float) -> Device:
    """A joined row as a device."""
    return Device(
        id=row["id"],
        hostname=row["hostname"],
        lifecycle=Lifecycle.SILENT if row["silent"] else Lifecycle.ENROLLED,
        facts=Facts.model_validate_json(row["facts"]),
        labels=json.loads(row["labels"]),
        groups=tuple(json.loads(row["groups"])),
        joined_at=moment(row["joined_at"]),
        last_heard=moment(row["last_heard"]),
        usual_interval=row["usual_interval"],
        bundle=row["digest"],
        applied_bundle=row["applied_bundle"],
        applied_revision=row["applied_revision"],
        applied_at=moment(row["applied_at"]),
        rollout=_rollout_of(row, now),
    )


def _query(filter: DeviceFilter, now: float, sort: str, descending: bool) -> Query:
    where, values = filter.conditions()
    # the values name :now even where no condition uses it; SQLite takes unused names
    return Query(_SELECT, _SOURCE, where, {**values, "now": now}, SORTS[sort], descending, "device.id")


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
    """One page of devices; map its rows with `device_of`."""
    return page(connection, _query(filter, now, sort, descending), cursor, limit)


def find_devices(connection: sqlite3.Connection, name: str, now: float) -> list[Device]:
    """The device of that id, or all devices of that hostname."""
    rows = connection.execute(
        f"SELECT {_SELECT} FROM {_SOURCE} WHERE device.id = :name OR device.hostname = :lower",
        {"name": name, "lower": name.lower(), "now": now},
    )
    return [device_of(row, now) for row in rows]


def _rollout_of(row: sqlite3.Row, now: float) -> RolloutState:
    """A joined row as the device's roll-out state."""
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


def rollout_counts(connection: sqlite3.Connection, now: float) -> RolloutCounts:
    """How many devices are in each roll-out state."""
    rows = connection.execute(f"SELECT {_STATE} AS state, count(*) FROM {_SOURCE} GROUP BY 1", {"now": now})
    return RolloutCounts(revision=newest_revision(connection), **{row[0]: row[1] for row in rows})


def group_sizes(connection: sqlite3.Connection) -> dict[str, int]:
    """How many devices each group holds; groups with none are left out."""
    return dict(
        connection.execute(
            "SELECT class_group.group_key, count(*) FROM class_group JOIN device ON device.class = class_group.class"
            " GROUP BY 1"
        ).fetchall()
    )


def count_in_any(connection: sqlite3.Connection, groups: tuple[str, ...]) -> int:
    """How many devices are in at least one of the groups."""
    marks = ", ".join("?" for _ in groups)
    return int(
        connection.execute(
            f"SELECT count(*) FROM device WHERE class IN (SELECT class FROM class_group WHERE group_key IN ({marks}))",
            groups,
        ).fetchone()[0]
    )


# --- joining and checking in ---


def add_device(
    connection: sqlite3.Connection,
    *,
    id: str,
    facts: Facts,
    labels: dict[str, str],
    class_id: int,
    credential_hash: str,
    now: float,
) -> None:
    """A device that has just joined."""
    connection.execute(
        "INSERT INTO device (id, hostname, kind, unit, facts, labels, class, credential_hash, joined_at, last_heard)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            id,
            facts.hostname,
            facts.kind.value,
            facts.unit,
            facts.model_dump_json(exclude_none=True),
            json.dumps(labels),
            class_id,
            credential_hash,
            now,
            now,
        ),
    )


@dataclass(frozen=True)
class Known:
    """What the device routes need to know of a device."""

    id: str
    facts: str
    labels: dict[str, str]
    class_id: int
    last_heard: float
    usual_interval: float | None
    applied_bundle: str | None
    applied_revision: int | None
    digest: str


def by_credential(connection: sqlite3.Connection, credential_hash: str) -> Known | None:
    """The device with that credential."""
    row = connection.execute(
        f"SELECT device.*, class.digest FROM {_SOURCE} WHERE device.credential_hash = ?",
        (credential_hash,),
    ).fetchone()
    if row is None:
        return None
    return Known(
        row["id"],
        row["facts"],
        json.loads(row["labels"]),
        row["class"],
        row["last_heard"],
        row["usual_interval"],
        row["applied_bundle"],
        row["applied_revision"],
        row["digest"],
    )


@dataclass(frozen=True)
class Wanted:
    """The bundle a device should have."""

    digest: str
    revision: int
    manifest: str


def wanted_of(connection: sqlite3.Connection, device: str) -> Wanted:
    """The bundle that the device should have."""
    row = connection.execute(
        f"SELECT class.digest, class.revision, class.manifest FROM {_SOURCE} WHERE device.id = ?", (device,)
    ).fetchone()
    return Wanted(*row)


def note_heard(connection: sqlite3.Connection, device: str, now: float, usual_interval: float | None) -> None:
    """The device has checked in."""
    connection.execute(
        "UPDATE device SET last_heard = ?, usual_interval = ? WHERE id = ?", (now, usual_interval, device)
    )


def note_facts(connection: sqlite3.Connection, device: str, facts: Facts, class_id: int) -> None:
    """The device has reported other facts than before."""
    connection.execute(
        "UPDATE device SET hostname = ?, kind = ?, unit = ?, facts = ?, class = ? WHERE id = ?",
        (
            facts.hostname,
            facts.kind.value,
            facts.unit,
            facts.model_dump_json(exclude_none=True),
            class_id,
            device,
        ),
    )


def note_applied(connection: sqlite3.Connection, device: str, digest: str, revision: int, now: float) -> None:
    """The device says that it has applied this bundle."""
    connection.execute(
        "UPDATE device SET applied_bundle = ?, applied_revision = ?, applied_at = ?, apply_problem = NULL,"
        " apply_failed_at = NULL WHERE id = ?",
        (digest, revision, now, device),
    )


def note_failed(connection: sqlite3.Connection, device: str, problem: str, now: float) -> None:
    """The device says that it could not apply its bundle."""
    connection.execute("UPDATE device SET apply_problem = ?, apply_failed_at = ? WHERE id = ?", (problem, now, device))


def add_enrolment_code(
    connection: sqlite3.Connection,
    code_hash: str,
    labels: dict[str, str],
    uses: int,
    expires: float,
    by: str,
    now: float,
) -> None:
    """A code by which devices may join."""
    connection.execute(
        "INSERT INTO enrolment_code (code_hash, labels, uses_left, expires_at, made_by, made_at)"
        " VALUES (?, ?, ?, ?, ?, ?)",
        (code_hash, json.dumps(labels), uses, expires, by, now),
    )


def use_enrolment_code(connection: sqlite3.Connection, code_hash: str, now: float) -> dict[str, str] | None:
    """Take one use of the code; its labels, or None where it is not good (any more)."""
    row = connection.execute(
        "UPDATE enrolment_code SET uses_left = uses_left - 1"
        " WHERE code_hash = ? AND uses_left > 0 AND expires_at > ? RETURNING labels",
        (code_hash, now),
    ).fetchone()
    return json.loads(row[0]) if row else None
