"""Which life of the service this is: one that was restored begins another, and devices then take lower revisions."""

from __future__ import annotations

import sqlite3

from portero.core.resolving.documents import DOCUMENT_FORMAT
from portero.formats.manifests import MANIFEST_FORMAT
from portero.store import settings

_CLOCKS_DIFFER = 86_400.0
_EPOCH, _SIGNED = "epoch", "signed"


def epoch_of(connection: sqlite3.Connection) -> int:
    """The store's epoch, from 1."""
    return int(settings.get(connection, _EPOCH) or 1)


def begin_epoch(connection: sqlite3.Connection, epoch: int) -> None:
    """From now on it is this one; what devices should have is not signed for it yet."""
    settings.put(connection, _EPOCH, str(epoch))


def is_signed(connection: sqlite3.Connection, epoch: int) -> bool:
    """Whether what devices should have is signed for that epoch, in today's form."""
    return settings.get(connection, _SIGNED) == _signed(epoch)


def note_signed(connection: sqlite3.Connection, epoch: int) -> None:
    """All is signed for that epoch, in today's form; it is the one that counts."""
    settings.put(connection, _EPOCH, str(epoch))
    settings.put(connection, _SIGNED, _signed(epoch))


def _signed(epoch: int) -> str:
    return f"{MANIFEST_FORMAT}.{DOCUMENT_FORMAT}/{epoch}"


def next_epoch(connection: sqlite3.Connection, now: float) -> int:
    """An epoch that no device has seen: later than this one, than what devices report, and than any begun before now
    of a copy that nobody here knows of.
    """
    # epochs are begun at their own time: what is said of a later one is not true
    (reported,) = connection.execute(
        "SELECT coalesce(max(applied_epoch), 0) FROM device WHERE applied_epoch <= ?", (now + _CLOCKS_DIFFER,)
    ).fetchone()
    return max(int(now), int(reported) + 1, epoch_of(connection) + 1)


def devices_ahead(connection: sqlite3.Connection, epoch: int, revision: int, now: float) -> int:
    """How many devices hold something newer than this store has ever had."""
    row = connection.execute(
        "SELECT count(*) FROM device INDEXED BY device_by_applied"
        " WHERE lifecycle = 'enrolled' AND (applied_epoch, applied_revision) > (?, ?)"
        " AND applied_epoch <= ?",
        (epoch, revision, now + _CLOCKS_DIFFER),
    ).fetchone()
    return int(row[0])
