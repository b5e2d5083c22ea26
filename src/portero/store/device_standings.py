"""Every device with what the store knows of it that counts for what becomes of attempts on it."""

from __future__ import annotations

import sqlite3
from collections.abc import Hashable, Iterator
from typing import NamedTuple


class DeviceStanding(NamedTuple):
    """A device: its names, and the rest as one value that is the same for devices that stand alike."""

    id: str
    hostname: str
    counts: tuple[Hashable, ...]


def device_standings(connection: sqlite3.Connection, now: float, with_browsers: bool) -> Iterator[DeviceStanding]:
    """All devices that are not retired, by hostname; `with_browsers`: the programs that their browsers are count."""
    browsers = "(SELECT document -> '$.browsers' FROM device_facts WHERE device_facts.device = device.id)"
    for id, hostname, *counts in connection.execute(
        "SELECT id, hostname, class, overlay, applied_bundle, applied_index, lifecycle,"
        " lifecycle = 'enrolled' AND silent_after < ?, apply_failed_at IS NOT NULL,"
        f" {browsers if with_browsers else 'NULL'} FROM device WHERE lifecycle <> 'retired' ORDER BY hostname",
        (now,),
    ):
        yield DeviceStanding(id, hostname, tuple(counts))
