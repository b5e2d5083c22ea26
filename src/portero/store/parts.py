"""The parts that bundles and overlays name by digest, each kept once."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping

from portero.core.resolving.documents import Part
from portero.formats.bundles import Packed, pack_parts


def lacking(connection: sqlite3.Connection, named: Mapping[str, Part]) -> tuple[Packed, ...]:
    """Those of these parts that are not kept, packed."""
    rows = connection.execute(
        "SELECT value FROM json_each(?) WHERE value NOT IN (SELECT digest FROM part)", (json.dumps(list(named)),)
    ).fetchall()
    return tuple(pack_parts({row[0]: named[row[0]] for row in rows}))


def keep_parts(connection: sqlite3.Connection, parts: Iterable[Packed], now: float) -> None:
    """Keep parts under their digests; one that is kept already stays as it is."""
    connection.executemany(
        "INSERT OR IGNORE INTO part (digest, size, packed, made_at) VALUES (?, ?, ?, ?)",
        [(part.digest, part.size, part.packed, now) for part in parts],
    )


def get_part(connection: sqlite3.Connection, digest: str) -> bytes | None:
    """The packed bytes of a part."""
    row = connection.execute("SELECT packed FROM part WHERE digest = ?", (digest,)).fetchone()
    return row[0] if row else None
