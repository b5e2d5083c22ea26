"""Who has which credential, and what each device should have: in memory, so that “nothing new” asks nobody.

What the store changes of it is dropped here before whoever changed it goes on, and looked up again when it is needed: a
credential that was revoked is refused at once.
"""

from __future__ import annotations

import threading
from collections.abc import Collection
from dataclasses import dataclass

from portero.service.last_heard import Heard
from portero.store import classes, devices
from portero.store.database import Store
from portero.store.devices import KnownDevice, Wanted


@dataclass(slots=True)
class Registered:
    """A device as it was looked up, and when it was heard of since."""

    device: KnownDevice
    credential_hash: str
    own: Wanted | None
    """What it should have, where that is not its class's bundle."""
    last_heard: float
    usual_interval: float | None

    @property
    def id(self) -> str:
        """The device's id."""
        return self.device.id

    @property
    def seq_offset(self) -> int:
        """What is added to the numbers of its attempts."""
        return self.device.seq_offset


class Register:
    """Devices by credential. Safe to use from several threads."""

    def __init__(self, store: Store, heard: Heard) -> None:
        self._store, self._heard = store, heard
        self._by_credential: dict[str, Registered] = {}
        self._credential_of: dict[str, str] = {}
        self._of_class: dict[int, Wanted] = {}
        self._lock = threading.Lock()
        self._dropped = 0
        store.watch("device", "id", devices.REGISTERED, self._drop)
        store.watch("device_overlay", "device", None, self._drop)
        store.watch("class", "id", None, self._drop_classes)

    def known(self, credential_hash: str) -> Registered | None:
        """The device of a credential, where it is remembered."""
        return self._by_credential.get(credential_hash)

    def look_up(self, credential_hash: str) -> Registered | None:
        """The device of a credential, from the store; None where it is good for none."""
        dropped = self._dropped
        with self._store.reading() as connection:
            known = devices.by_credential(connection, credential_hash)
            if known is None:
                return None
            own = devices.own_of(connection, known.id)
            of_class = classes.wanted_of(connection, known.class_id)
        heard = self._heard.last(known.id, known.last_heard, known.usual_interval)
        entry = Registered(known, credential_hash, own, *heard)
        with self._lock:
            if dropped == self._dropped:
                self._by_credential[credential_hash] = entry
                self._credential_of[known.id] = credential_hash
                self._of_class[known.class_id] = of_class
        return entry

    def wanted(self, entry: Registered) -> Wanted:
        """The bundle, or the overlay on top of it, that the device should have."""
        if entry.own is not None:
            return entry.own
        found = self._of_class.get(entry.device.class_id)
        if found is None:
            dropped = self._dropped
            with self._store.reading() as connection:
                found = classes.wanted_of(connection, entry.device.class_id)
            with self._lock:
                if dropped == self._dropped:
                    self._of_class[entry.device.class_id] = found
        return found

    def given(self, entry: Registered) -> str:
        """The bundle or overlay that the device was given last and has applied; empty where there is none."""
        with self._store.reading() as connection:
            return devices.given_of(connection, entry.id)

    def _drop(self, changed: Collection[str]) -> None:
        with self._lock:
            self._dropped += 1
            for device in changed:
                credential = self._credential_of.pop(device, None)
                if credential is not None:
                    self._by_credential.pop(credential, None)

    def _drop_classes(self, changed: Collection[int]) -> None:
        with self._lock:
            self._dropped += 1
            for class_id in changed:
                self._of_class.pop(class_id, None)
