"""From a change of the estate to the bundles of the classes it touches."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass

from portero.core.matching.membership import Membership
from portero.core.nouns.base import rfc3339
from portero.core.nouns.device import Facts
from portero.core.nouns.estate import Estate
from portero.core.nouns.revision import Change
from portero.core.resolving.bundles import compile_bundle
from portero.formats.bundles import Manifest, pack_bundle, sign_manifest
from portero.store import classes
from portero.store.estates import moment, set_revision_devices


@dataclass(frozen=True)
class Publisher:
    """Compiles, signs and keeps bundles. `index` is the digest of the category index that goes with them."""

    key: str
    index: str

    def manifest(self, digest: str, size: int, revision: int, now: float) -> str:
        """The signed manifest of a bundle at a revision."""
        made_at = moment(now)
        assert made_at is not None
        return sign_manifest(Manifest(1, digest, size, revision, rfc3339(made_at), self.index), self.key)

    def class_for(
        self, connection: sqlite3.Connection, estate: Estate, groups: tuple[str, ...], revision: int, now: float
    ) -> int:
        """The id of the class of these groups; it is made, with its bundle, where it is new."""
        known = classes.class_of(connection, groups)
        if known:
            return known.id
        packed = pack_bundle(compile_bundle(estate, groups))
        classes.keep_bundle(connection, packed, now)
        manifest = self.manifest(packed.digest, packed.size, revision, now)
        return classes.add_class(connection, groups, packed.digest, revision, manifest, now)

    def publish(
        self,
        connection: sqlite3.Connection,
        before: Estate,
        after: Estate,
        changes: Sequence[Change],
        revision: int,
        now: float,
    ) -> list[int]:
        """Compile anew what the changes touch; returns the classes whose bundle is another one now."""
        moved_to = set()
        if any(change.noun in ("group", "precedence") for change in changes):
            moved_to = self._regroup(connection, after, revision, now)
        touched = touched_groups(before, after, changes)
        changed = []
        for known in classes.list_classes(connection):
            if touched is not None and touched.isdisjoint(known.groups):
                continue
            packed = pack_bundle(compile_bundle(after, known.groups))
            if packed.digest != known.digest:
                classes.keep_bundle(connection, packed, now)
                manifest = self.manifest(packed.digest, packed.size, revision, now)
                classes.set_bundle(connection, known.id, packed.digest, revision, manifest, now)
                changed.append(known.id)
        reached = sorted({*changed, *moved_to})
        set_revision_devices(connection, revision, classes.devices_in(connection, reached))
        return reached

    def _regroup(self, connection: sqlite3.Connection, estate: Estate, revision: int, now: float) -> set[int]:
        """Evaluate membership of every device anew and put them into their classes."""
        membership = Membership(estate.groups, estate.group_order)
        ids = {known.groups: known.id for known in classes.list_classes(connection)}
        moves: dict[str, int] = {}
        for row in classes.facts_of_all(connection):
            facts = Facts.model_validate_json(row["facts"])
            groups = membership.groups_of(facts, json.loads(row["labels"]))
            if groups not in ids:
                ids[groups] = self.class_for(connection, estate, groups, revision, now)
            if ids[groups] != row["class"]:
                moves[row["id"]] = ids[groups]
        classes.move_devices(connection, moves)
        classes.drop_empty_classes(connection)
        return set(moves.values())


def touched_groups(before: Estate, after: Estate, changes: Sequence[Change]) -> set[str] | None:
    """The groups whose classes the changes can alter; None for all of them."""
    touched: set[str] = set()
    for change in changes:
        if change.noun == "correction":
            return None
        if change.noun == "assignment":
            for side in (change.before, change.after):
                touched.update((side or {}).get("to", ()))
        if change.noun == "ruleset":
            for estate in (before, after):
                for assignment in estate.assignments:
                    if assignment.ruleset == change.key:
                        touched.update(assignment.to)
    return touched
