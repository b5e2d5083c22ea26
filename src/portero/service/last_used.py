"""When and from where sessions and tokens were last used: noted in memory, written now and then."""

from __future__ import annotations

import threading

from portero.store.access import Principal, Use, note_uses
from portero.store.database import Store


class LastUsed:
    """What is not written yet is lost with the process; the next use makes up for it."""

    def __init__(self, store: Store) -> None:
        self._store, self._lock = store, threading.Lock()
        self._waiting: dict[tuple[str, str], Use] = {}

    def note(self, who: Principal, at: float, address: str) -> None:
        """It was used."""
        with self._lock:
            self._waiting[who.means, who.id] = Use(who.means, who.id, at, address)

    def write(self) -> None:
        """Write what waits."""
        with self._lock:
            waiting, self._waiting = self._waiting, {}
        if waiting:
            with self._store.writing() as connection:
                note_uses(connection, waiting.values())
