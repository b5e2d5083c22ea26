"""The hosts that were seen on machines, and when."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection
from typing import NamedTuple


class Sightings(NamedTuple):
    """Where a host was seen: first and last, on how many machines, how often."""

    first: float
    last: float
    devices: int
    visits: int


def sightings(connection: sqlite3.Connection, host: str) -> Sightings | None:
    """Where a host was seen; None where it never was."""
    row = connection.execute(
        "SELECT min(first), max(last), count(*), sum(visits) FROM host_seen WHERE host = ?", (host,)
    ).fetchone()
    return Sightings(*row) if row[2] else None


def hosts_seen(connection: sqlite3.Connection) -> set[str]:
    """Every host that was seen on some machine."""
    return {row[0] for row in connection.execute("SELECT DISTINCT host FROM host_seen")}


MOST_STEPS = 200_000
"""So many hosts are looked at."""


def hosts_within(connection: sqlite3.Connection, domain: str, limit: int) -> list[str]:
    """Hosts that were seen at a domain or below it, by name. Of a great many hosts not all are looked at."""
    rows = connection.execute(
        # one step of the index for each host, however many machines saw it
        "WITH RECURSIVE seen (host) AS (SELECT min(host) FROM host_seen UNION ALL"
        " SELECT (SELECT min(host) FROM host_seen WHERE host > seen.host) FROM seen WHERE host IS NOT NULL LIMIT ?)"
        " SELECT host FROM seen WHERE host = ? OR substr(host, -length(?)) = ? LIMIT ?",
        (MOST_STEPS, domain, f".{domain}", f".{domain}", limit),
    )
    return [row[0] for row in rows]


def hosts_since(connection: sqlite3.Connection, since: float) -> list[tuple[str, Sightings]]:
    """The hosts that were seen since a moment, with all that is known of where."""
    rows = connection.execute(
        "SELECT host, min(first), max(last), count(*), sum(visits) FROM host_seen WHERE last >= ? GROUP BY host",
        (since,),
    )
    return [(row[0], Sightings(*row[1:])) for row in rows]


def devices_that_saw(connection: sqlite3.Connection, hosts: Collection[str], since: float) -> int:
    """On how many machines some of these hosts were seen since a moment."""
    return int(
        connection.execute(
            "SELECT count(DISTINCT device) FROM host_seen WHERE host IN (SELECT value FROM json_each(?)) AND last >= ?",
            (json.dumps(list(hosts)), since),
        ).fetchone()[0]
    )
