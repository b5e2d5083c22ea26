"""From a change of the estate to the bundles of the classes it touches."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Sequence
from dataclasses import dataclass

from portero.core.nouns.base import rfc3339
from portero.core.nouns.estate import Estate
from portero.core.nouns.revision import Change
from portero.core.resolving.bundles import compile_bundle
from portero.formats.bundles import Manifest, pack_bundle, sign_manifest
from portero.store import classes
from portero.store.classes import DeviceClass
from portero.store.estates import moment, set_revision_devices


@dataclass(frozen=True)
class Publisher:
    """Compiles, signs and keeps bundles. `index` is the digest of the category index that goes with them."""

    key: str
    index: str

    def manifest(self, digest: str, size: int, revision: int, now: float) -> str:
        """The signed manifest of a bundle at a revision."""
        return sign_manifest(Manifest(1, digest, size, revision, rfc3339(moment(now)), self.index), self.key)

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
    ) -> frozenset[int]:
        """Compile anew what the changes touch; the classes that have another bundle now.

        `entered` are the classes that devices moved into by this revision.
        """
        touched = touched_groups(before, after, changes)
        changed = set()
        for known in classes.list_classes(connection):
            if touched is None or not touched.isdisjoint(known.groups):
                if self._recompile(connection, after, known, revision, now):
                    changed.add(known.id)
            elif known.id in entered:
                self._refresh(connection, known, revision, now)
        set_revision_devices(connection, revision, classes.devices_in(connection, sorted(changed.union(entered))))
        return frozenset(changed)

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


def touched_groups(before: Estate, after: Estate, changes: Sequence[Change]) -> set[str] | None:
    """The groups whose classes the changes can alter; None for all of them."""
    touched: set[str] = set()
    for change in changes:
        if change.noun in ("correction", "settings"):
            return None
        if change.noun == "layer modes":
            touched.add(change.key)
        if change.noun == "assignment":
            for side in (change.before, change.after):
                touched.update((side or {}).get("to", ()))
        if change.noun == "ruleset":
            for estate in (before, after):
                for assignment in estate.assignments:
                    if assignment.ruleset == change.key:
                        touched.update(assignment.to)
    return touched
