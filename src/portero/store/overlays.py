"""What single devices get on top of their class's bundle, and since when they have applied what holds until restart."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterable
from typing import NamedTuple

from portero.formats.bundles import Packed


class DeviceOverlay(NamedTuple):
    """The overlay that a device should have, as of a revision."""

    digest: str
    revision: int


def of_device(connection: sqlite3.Connection, device: str) -> DeviceOverlay | None:
    """The overlay that a device should have, or None."""
    row = connection.execute("SELECT digest, revision FROM device_overlay WHERE device = ?", (device,)).fetchone()
    return DeviceOverlay(row["digest"], row["revision"]) if row else None


def set_overlay(
    connection: sqlite3.Connection,
    device: str,
    packed: Packed,
    bundle: str,
    revision: int,
    manifest: str,
    now: float,
) -> None:
    """The device should have this overlay on top of the bundle of that digest."""
    connection.execute(
        "INSERT OR IGNORE INTO overlay (digest, bundle, packed, made_at) VALUES (?, ?, ?, ?)",
        (packed.digest, bundle, packed.packed, now),
    )
    connection.execute(
        "INSERT INTO device_overlay (device, digest, revision, manifest) VALUES (?, ?, ?, ?)"
        " ON CONFLICT (device) DO UPDATE SET digest = excluded.digest, revision = excluded.revision,"
        " manifest = excluded.manifest",
        (device, packed.digest, revision, manifest),
    )
    connection.execute("UPDATE device SET overlay = ? WHERE id = ?", (packed.digest, device))


def drop_overlay(connection: sqlite3.Connection, device: str) -> None:
    """The device should have its class's bundle, and nothing more."""
    connection.execute("DELETE FROM device_overlay WHERE device = ?", (device,))
    connection.execute("UPDATE device SET overlay = NULL WHERE id = ?", (device,))


def get_overlay(connection: sqlite3.Connection, digest: str) -> tuple[bytes, str] | None:
    """The packed bytes of an overlay, and the digest of the bundle that it goes on top of."""
    row = connection.execute("SELECT packed, bundle FROM overlay WHERE digest = ?", (digest,)).fetchone()
    return (row["packed"], row["bundle"]) if row else None


def with_overlays(connection: sqlite3.Connection, names: Collection[str]) -> list[sqlite3.Row]:
    """Id, hostname, `keeps_name` and class of the devices that have an overlay, or one of these names."""
    # by way of the few, so that a change of the estate does not go through the whole fleet
    return connection.execute(
        "SELECT id, hostname, keeps_name, class FROM device WHERE class IS NOT NULL AND id IN ("
        "SELECT device FROM device_overlay UNION SELECT value FROM json_each(:names)"
        " UNION SELECT id FROM device WHERE hostname IN (SELECT value FROM json_each(:names)))",
        {"names": json.dumps(list(names))},
    ).fetchall()


def all_rows(connection: sqlite3.Connection) -> list[sqlite3.Row]:
    """Device, class, digest and revision of every overlay that a device should have."""
    return connection.execute(
        "SELECT own.device, own.digest, own.revision, device.class FROM device_overlay AS own"
        " JOIN device ON device.id = own.device WHERE device.class IS NOT NULL"
    ).fetchall()


def refresh_manifest(connection: sqlite3.Connection, device: str, manifest: str) -> None:
    """The device's overlay is the same as before, signed anew."""
    connection.execute("UPDATE device_overlay SET manifest = ? WHERE device = ?", (manifest, device))


# --- until restart ---


def note_until_restart(connection: sqlite3.Connection, device: str, assignments: Iterable[str], now: float) -> None:
    """The device has applied a bundle in which these assignments hold until it restarts, and no others."""
    kept = list(assignments)
    connection.execute(
        "DELETE FROM applied_until_restart WHERE device = ? AND assignment NOT IN (SELECT value FROM json_each(?))",
        (device, json.dumps(kept)),
    )
    connection.executemany(
        "INSERT OR IGNORE INTO applied_until_restart (device, assignment, since) VALUES (?, ?, ?)",
        [(device, assignment, now) for assignment in kept],
    )


def forget_until_restart(connection: sqlite3.Connection, devices: Collection[str]) -> None:
    """These devices have applied bundles in which nothing holds until they restart."""
    statement = "DELETE FROM applied_until_restart WHERE device IN (SELECT value FROM json_each(?))"
    connection.execute(statement, (json.dumps(list(devices)),))


def until_restart_since(connection: sqlite3.Connection, device: str) -> dict[str, float]:
    """Since when a device has applied the assignments that hold until it restarts."""
    rows = connection.execute("SELECT assignment, since FROM applied_until_restart WHERE device = ?", (device,))
    return {row["assignment"]: row["since"] for row in rows}
