"""From a change of the estate to the bundles of the classes it touches."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from portero.core.insight.effects.touching import touched_groups
from portero.core.nouns.base import rfc3339
from portero.core.nouns.estate import Estate
from portero.core.nouns.revision import Change
from portero.core.resolving.bundles import compile_bundle, compile_overlay
from portero.formats.bundles import Manifest, pack_bundle, pack_overlay, sign_manifest
from portero.store import classes, overlays
from portero.store.classes import DeviceClass
from portero.store.estates import moment


class Published(NamedTuple):
    """The classes that have another bundle now, or devices of theirs an overlay; and how many devices that reaches."""

    changed: frozenset[int]
    devices: int


@dataclass
class Publisher:
    """Compiles, signs and keeps bundles. `index` is the digest of the category index that goes with them, `generations`
    tells of which generation of each feed they are made.
    """

    key: str
    index: str
    generations: tuple[tuple[str, int], ...] = ()

    def manifest(self, digest: str, size: int, revision: int, now: float, overlay: str | None = None) -> str:
        """The signed manifest of a bundle at a revision, and of an overlay on top of it."""
        made_at = rfc3339(moment(now))
        manifest = Manifest(1, digest, size, revision, made_at, self.index, overlay, self.generations)
        return sign_manifest(manifest, self.key)

    def class_for(
        self, connection: sqlite3.Connection, estate: Estate, groups: tuple[str, ...], revision: int, now: float
    ) -> int:
        """The id of the class of these groups; it is made, with its bundle, where it is new."""
        known = classes.class_of(connection, groups)
        if known:
            self._refresh(connection, known, revision, now)
            return known.id
        packed = pack_bundle(compile_bundle(estate, groups))
        classes.keep_bundle(connection, packed, now)
        manifest = self.manifest(packed.digest, packed.size, revision, now)
        return classes.add_class(connection, groups, packed.digest, revision, manifest, now)

    def _refresh(self, connection: sqlite3.Connection, known: DeviceClass, revision: int, now: float) -> None:
        """Sign a class's manifest for the newest revision: devices that move into the class go forward, never back."""
        if known.revision < revision:
            manifest = self.manifest(known.digest, known.size, revision, now)
            classes.refresh_manifest(connection, known.id, revision, manifest)

    def publish(
        self,
        connection: sqlite3.Connection,
        before: Estate,
        after: Estate,
        changes: Sequence[Change],
        revision: int,
        now: float,
        entered: Collection[int],
    ) -> Published:
        """Compile anew what the changes touch. `entered` are the classes that devices moved into by this revision."""
        touched = touched_groups(before, after, changes)
        changed = set()
        for known in classes.list_classes(connection):
            if touched is None or not touched.isdisjoint(known.groups):
                if self._recompile(connection, after, known, revision, now):
                    changed.add(known.id)
            elif known.id in entered:
                self._refresh(connection, known, revision, now)
        overlaid = self._overlay_all(connection, before, after, revision, now)
        devices = classes.devices_in(connection, sorted(changed.union(entered)))
        apart = [class_id for class_id in overlaid if class_id not in changed and class_id not in entered]
        return Published(frozenset(changed.union(overlaid)), devices + len(apart))

    def sign_again(self, connection: sqlite3.Connection, now: float) -> frozenset[int]:
        """Sign what every class and device has for another category index; all classes."""
        known = {one.id: one for one in classes.list_classes(connection)}
        for one in known.values():
            manifest = self.manifest(one.digest, one.size, one.revision, now)
            classes.refresh_manifest(connection, one.id, one.revision, manifest)
        for row in overlays.all_rows(connection):
            own = known[row["class"]]
            manifest = self.manifest(own.digest, own.size, row["revision"], now, row["digest"])
            overlays.refresh_manifest(connection, row["device"], manifest)
        return frozenset(known)

    def _recompile(
        self, connection: sqlite3.Connection, estate: Estate, known: DeviceClass, revision: int, now: float
    ) -> bool:
        """Compile a class's bundle anew; True where it is another one than before."""
        packed = pack_bundle(compile_bundle(estate, known.groups))
        if packed.digest == known.digest:
            self._refresh(connection, known, revision, now)
            return False
        classes.keep_bundle(connection, packed, now)
        manifest = self.manifest(packed.digest, packed.size, revision, now)
        classes.set_bundle(connection, known.id, packed.digest, revision, manifest, now)
        return True

    # --- overlays ---

    def _overlay_all(
        self, connection: sqlite3.Connection, before: Estate, after: Estate, revision: int, now: float
    ) -> list[int]:
        """Make the overlays of all devices that have one, or are to have one; the classes of those that changed."""
        names = before.named_devices | after.named_devices
        rows = overlays.with_overlays(connection, sorted(names))
        return [row["class"] for row in rows if self._overlay_row(connection, after, row, revision, now)]

    def _overlay_row(
        self, connection: sqlite3.Connection, estate: Estate, row: sqlite3.Row, revision: int, now: float
    ) -> bool:
        names = (row["id"], row["hostname"]) if row["keeps_name"] else (row["id"],)
        return self.overlay(connection, estate, row["id"], names, row["class"], revision, now)

    def overlay(
        self,
        connection: sqlite3.Connection,
        estate: Estate,
        device: str,
        names: Collection[str],
        class_id: int,
        revision: int,
        now: float,
    ) -> bool:
        """Make what a device gets on top of its class's bundle; True where that is another than before."""
        had, known = overlays.of_device(connection, device), classes.get_class(connection, class_id)
        overlay = compile_overlay(estate, known.groups, names)
        if overlay is None:
            overlays.drop_overlay(connection, device)
            return had is not None
        packed = pack_overlay(overlay, known.digest)
        if had is None or had.digest != packed.digest or had.revision < known.revision:
            manifest = self.manifest(known.digest, known.size, revision, now, packed.digest)
            overlays.set_overlay(connection, device, packed, known.digest, revision, manifest, now)
        return had is None or had.digest != packed.digest
