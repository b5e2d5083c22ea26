"""Classes of devices and the bundle that each should have."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Mapping, Sequence
from functools import lru_cache
from typing import Any, NamedTuple

from portero.formats.bundles import Packed
from portero.store.devices import Wanted


class DeviceClass(NamedTuple):
    """All devices with the same groups."""

    id: int
    groups: tuple[str, ...]
    digest: str
    size: int
    revision: int


_SELECT = "SELECT class.id, groups, class.digest, size, revision FROM class JOIN bundle ON bundle.digest = class.digest"


@lru_cache(maxsize=20_000)
def _groups_of(told: str) -> tuple[str, ...]:
    return tuple(json.loads(told))


def _class(row: Sequence[Any]) -> DeviceClass:
    id, groups, digest, size, revision = row
    return DeviceClass(id, _groups_of(groups), digest, size, revision)


def list_classes(connection: sqlite3.Connection) -> list[DeviceClass]:
    """Every class."""
    return list(map(_class, connection.execute(_SELECT)))


def class_of(connection: sqlite3.Connection, groups: tuple[str, ...]) -> DeviceClass | None:
    """The class of exactly these groups, in this order."""
    row = connection.execute(f"{_SELECT} WHERE class.groups = ?", (json.dumps(groups),)).fetchone()
    return _class(row) if row else None


def get_class(connection: sqlite3.Connection, id: int) -> DeviceClass:
    """The class of that id, which there must be."""
    return _class(connection.execute(f"{_SELECT} WHERE class.id = ?", (id,)).fetchone())


def keep_bundle(connection: sqlite3.Connection, packed: Packed, now: float) -> None:
    """Keep a bundle under its digest; one that is kept already stays as it is."""
    connection.execute(
        "INSERT OR IGNORE INTO bundle (digest, size, packed, made_at) VALUES (?, ?, ?, ?)",
        (packed.digest, packed.size, packed.packed, now),
    )


def add_class(
    connection: sqlite3.Connection, groups: tuple[str, ...], digest: str, revision: int, manifest: str, now: float
) -> int:
    """A class that did not exist before; returns its id."""
    cursor = connection.execute(
        "INSERT INTO class (groups, digest, revision, manifest, since) VALUES (?, ?, ?, ?, ?)",
        (json.dumps(groups), digest, revision, manifest, now),
    )
    class_id = int(cursor.lastrowid or 0)
    connection.executemany(
        "INSERT INTO class_group (group_key, class) VALUES (?, ?)", [(key, class_id) for key in groups]
    )
    return class_id


def set_bundle(
    connection: sqlite3.Connection, class_id: int, digest: str, revision: int, manifest: str, now: float
) -> None:
    """The class should have this bundle from now on."""
    connection.execute(
        "UPDATE class SET digest = ?, revision = ?, manifest = ?, since = ? WHERE id = ?",
        (digest, revision, manifest, now, class_id),
    )


def refresh_manifest(connection: sqlite3.Connection, class_id: int, revision: int, manifest: str) -> None:
    """The class's bundle is the same as before, confirmed for a newer revision."""
    connection.execute("UPDATE class SET revision = ?, manifest = ? WHERE id = ?", (revision, manifest, class_id))


def move_devices(connection: sqlite3.Connection, moves: Mapping[str, int]) -> None:
    """Put devices into other classes, by id."""
    connection.executemany(
        "UPDATE device SET class = ? WHERE id = ?", [(class_id, device) for device, class_id in moves.items()]
    )


def set_rechecks(connection: sqlite3.Connection, following: Mapping[str, float | None]) -> None:
    """When time alone may next change each device's groups."""
    connection.executemany(
        "UPDATE device SET recheck_at = ? WHERE id = ? AND recheck_at IS NOT ?",
        [(at, device, at) for device, at in following.items()],
    )


def drop_empty_classes(connection: sqlite3.Connection) -> None:
    """Forget classes that no device is in. Their bundles stay: devices may hold them still."""
    connection.execute("DELETE FROM class WHERE NOT EXISTS (SELECT 1 FROM device WHERE device.class = class.id)")


def devices_in(connection: sqlite3.Connection, groups: Collection[tuple[str, ...]]) -> int:
    """How many devices are in the classes of these groups."""
    row = connection.execute(
        "SELECT count(*) FROM json_each(?) AS asked CROSS JOIN class ON class.groups = asked.value"
        " CROSS JOIN device ON device.class = class.id",
        (json.dumps([json.dumps(own) for own in groups]),),
    ).fetchone()
    return int(row[0])


def get_bundle(connection: sqlite3.Connection, digest: str) -> bytes | None:
    """The packed bytes of a bundle."""
    row = connection.execute("SELECT packed FROM bundle WHERE digest = ?", (digest,)).fetchone()
    return row[0] if row else None


def may_have(connection: sqlite3.Connection, device: str, digest: str) -> bool:
    """Whether this is the device's own bundle or overlay: the one that it should have."""
    row = connection.execute(
        "SELECT 1 FROM device JOIN class ON class.id = device.class"
        " WHERE device.id = ? AND ? IN (class.digest, device.overlay)",
        (device, digest),
    ).fetchone()
    return row is not None


def wanted_of(connection: sqlite3.Connection, id: int) -> Wanted:
    """What devices of a class should have, that have no overlay."""
    return Wanted(*connection.execute("SELECT digest, revision, manifest FROM class WHERE id = ?", (id,)).fetchone())
