"""When devices were last heard of: noted at once in memory, and written together, each second."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterable
from typing import NamedTuple

from portero.store import devices
from portero.store.database import Store


class _Note(NamedTuple):
    at: float
    usual_interval: float | None
    asked: float
    """Seconds after which it was asked to check in again."""


class Heard:
    """A device that hears “nothing new” waits for nobody who writes: its note waits instead, for a second. One that is
    lost with the process is made up for by the device's next check-in.
    """

    def __init__(self, store: Store) -> None:
        self._store = store
        self._lock = threading.Lock()
        self._waiting: dict[str, _Note] = {}

    def note(self, device: str, at: float, usual_interval: float | None, asked: float) -> None:
        """The device has checked in. It is written with what comes in the same second."""
        with self._lock:
            self._waiting[device] = _Note(at, usual_interval, asked)

    def last(self, device: str, at: float, usual_interval: float | None) -> tuple[float, float | None]:
        """When the device was last heard of and its usual interval: as they wait, or else as the store has them."""
        with self._lock:
            waiting = self._waiting.get(device)
        return (at, usual_interval) if waiting is None else (waiting.at, waiting.usual_interval)

    def written_with(self, devices: Iterable[str]) -> None:
        """Devices have checked in with something to be written, and this is written along with it."""
        with self._lock:
            for device in devices:
                self._waiting.pop(device, None)

    def note_with(
        self, connection: sqlite3.Connection, device: str, at: float, usual_interval: float | None, asked: float
    ) -> None:
        """The device has checked in with something to be written: this goes along with it."""
        self.written_with((device,))
        devices.note_all_heard(connection, [(device, at, usual_interval, asked)])

    def write(self) -> None:
        """Write what waits."""
        if self._waiting:
            with self._store.writing() as connection:
                self._write(connection)

    def _write(self, connection: sqlite3.Connection) -> None:
        with self._lock:
            waiting = dict(self._waiting)
        devices.note_all_heard(connection, [(device, *note) for device, note in waiting.items()])
        with self._lock:
            # what came meanwhile goes on waiting
            self._waiting = {device: note for device, note in self._waiting.items() if waiting.get(device) is not note}
