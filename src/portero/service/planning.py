"""From a change on its way to all that follows from it: a plan. The store is read here, and nothing is written."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from portero.core import sentences
from portero.core.insight.effects.touching import changed_keys, touched_groups
from portero.core.insight.readiness import Obstacle
from portero.core.insight.revisions import step_back
from portero.core.matching.fleet import Regrouping
from portero.core.nouns.estate import NOUNS
from portero.core.nouns.revision import Change
from portero.core.resolving.documents import Parts
from portero.service.publishing import Publisher
from portero.service.roster import Obstacles, Roster
from portero.service.state import EstateTransition
from portero.store import classes, overlays, parts
from portero.store.classes import DeviceClass
from portero.store.feeds import IndexRecord
from portero.store.plans import GenerationInForce, Groups, NewRevision, Plan, PlannedClass, PlannedOverlay

_REGROUPING = frozenset({"group", "precedence"})
_HINDERING = frozenset({"settings", "layer modes", "coverage row"})
Moved = Mapping[str, Groups]
"""Devices that come into other groups, with those."""


@dataclass
class Classes:
    """The classes as they are, and as they are to be."""

    known: dict[Groups, DeviceClass]
    planned: dict[Groups, PlannedClass] = field(default_factory=dict)

    @classmethod
    def kept(cls, connection: sqlite3.Connection) -> Classes:
        """Those that the store has."""
        return cls({device_class.groups: device_class for device_class in classes.list_classes(connection)})

    def take(self, planned: PlannedClass | None) -> None:
        """One is planned for, where there is something to write."""
        if planned is not None:
            self.planned[planned.groups] = planned

    @property
    def changed(self) -> set[Groups]:
        """Those that are to have another bundle."""
        return {planned.groups for planned in self.planned.values() if planned.packed is not None}

    def then(self, groups: Groups) -> DeviceClass:
        """The class of these groups as it is to be."""
        planned = self.planned.get(groups)
        if planned is None:
            return self.known[groups]
        had = planned.packed or self.known[groups]
        return DeviceClass(planned.id or 0, groups, had.digest, had.size, planned.revision)

    def ids(self, groups: Iterable[Groups]) -> frozenset[int]:
        """The ids of those that there are already: nobody waits in a new one."""
        return frozenset(self.known[group].id for group in groups if group in self.known)


@dataclass
class Published:
    """What classes, and single devices on top of theirs, are to have."""

    classes: Classes
    overlays: list[PlannedOverlay] = field(default_factory=list)
    alone: list[Groups] = field(default_factory=list)
    """The class of each device that is to have another overlay."""
    parts: Parts = field(default_factory=Parts)


class Planner:
    """Reckons plans: of the fleet as it is, and of what the store has of classes and overlays."""

    def __init__(self, publisher: Publisher, roster: Roster) -> None:
        self._publisher, self._roster = publisher, roster

    def plan(
        self, connection: sqlite3.Connection, going: EstateTransition, by: str, reason: str | None
    ) -> tuple[Plan, Regrouping | None]:
        """What a change of what is authored comes to; and the groups of devices, where they change."""
        nouns, roster = {change.noun for change in going.changes}, self._roster
        regrouping = roster.plan(going.after.estate, going.now) if nouns & _REGROUPING else None
        moved = regrouping.groups if regrouping is not None else {}
        found = self._published(connection, going, going.changes, moved)
        reached = frozenset(found.classes.changed.union(moved.values()))
        left = {roster.fleet.groups_of(device) for device in moved}
        plan = Plan(
            now=going.now,
            revision=going.after.revision,
            authored=_new_revision(going, by, reason),
            classes=tuple(found.classes.planned.values()),
            parts=parts.lacking(connection, found.parts),
            moves=moved,
            rechecks=roster.rechecks(regrouping, going.now) if regrouping is not None else None,
            overlays=tuple(found.overlays),
            obstacles=self._obstacles(going, moved, everywhere=_hinders(going)),
            reached=reached,
            reached_alone=sum(groups not in reached for groups in found.alone),
            woken=found.classes.ids(found.classes.changed.union(left, found.alone)),
        )
        return plan, regrouping

    def plan_generation(
        self, connection: sqlite3.Connection, going: EstateTransition, generation: GenerationInForce
    ) -> Plan:
        """What a generation of a feed of indicators comes to."""
        changes = [
            Change(noun="ruleset", key=ruleset.key, verb="changed")
            for ruleset in going.after.estate.rulesets
            if ruleset.feed == generation.feed
        ]
        found = self._published(connection, going, changes, {})
        return Plan(
            now=going.now,
            revision=going.after.revision,
            classes=tuple(found.classes.planned.values()),
            parts=parts.lacking(connection, found.parts),
            overlays=tuple(found.overlays),
            generation=generation,
            woken=found.classes.ids(found.classes.changed.union(found.alone)),
        )

    def plan_index(
        self,
        connection: sqlite3.Connection,
        going: EstateTransition,
        index: IndexRecord,
        generation: GenerationInForce | None,
    ) -> Plan:
        """What another category index comes to: all that devices should have is signed for it."""
        if index.digest == going.before.naming.index:
            return Plan(now=going.now, revision=going.after.revision, generation=generation, index=index)
        return replace(self.plan_signing(connection, going), generation=generation, index=index)

    def plan_signing(self, connection: sqlite3.Connection, going: EstateTransition, anew: bool = False) -> Plan:
        """All that devices should have signed anew, for what manifests name beside it; `anew` compiled too, for a form
        that is another.
        """
        publisher, after, now = self._publisher, going.after, going.now
        found = Published(Classes.kept(connection))
        known = found.classes.known
        for groups, device_class in known.items() if anew else ():
            found.classes.take(publisher.compiled(after, groups, device_class, now, found.parts))
        if anew:
            self._overlay(connection, going, found, {})
        for groups in known.keys() - found.classes.planned.keys():
            found.classes.take(publisher.signed(after, known[groups], known[groups].revision, now))
        self._sign_overlays(connection, going, found)
        return Plan(
            now=now,
            revision=after.revision,
            classes=tuple(found.classes.planned.values()),
            parts=parts.lacking(connection, found.parts),
            overlays=tuple(found.overlays),
            epoch=after.naming.epoch,
            woken=found.classes.ids(known),
        )

    def _sign_overlays(self, connection: sqlite3.Connection, going: EstateTransition, found: Published) -> None:
        """Sign those anew for which nothing is planned."""
        by_id = {device_class.id: groups for groups, device_class in found.classes.known.items()}
        planned = {overlay.device for overlay in found.overlays}
        for row in overlays.all_rows(connection):
            if row["device"] not in planned:
                own, naming = found.classes.then(by_id[row["class"]]), going.after.naming
                manifest = self._publisher.manifest(naming, own, own.groups, row["revision"], going.now, row["digest"])
                found.overlays.append(PlannedOverlay(row["device"], manifest))

    def _published(
        self, connection: sqlite3.Connection, going: EstateTransition, changes: Sequence[Change], moved: Moved
    ) -> Published:
        """What the changes touch, compiled anew; and the classes that devices come into."""
        publisher, after, now = self._publisher, going.after, going.now
        found = Published(Classes.kept(connection))
        touched, entered = touched_groups(going.before.estate, after.estate, changes), set(moved.values())
        for groups, known in found.classes.known.items():
            if touched is None or not touched.isdisjoint(groups):
                found.classes.take(publisher.compiled(after, groups, known, now, found.parts))
            elif groups in entered:
                found.classes.take(publisher.refreshed(after, known, now))
        for groups in entered - found.classes.known.keys():
            found.classes.take(publisher.compiled(after, groups, None, now, found.parts))
        self._overlay(connection, going, found, moved)
        return found

    def _overlay(self, connection: sqlite3.Connection, going: EstateTransition, found: Published, moved: Moved) -> None:
        """The overlays of all devices that have one, or are to have one."""
        named = going.before.estate.named_devices | going.after.estate.named_devices
        by_id = {device_class.id: groups for groups, device_class in found.classes.known.items()}
        for row in overlays.with_overlays(connection, sorted(named)):
            groups, had = moved.get(row["id"]) or by_id[row["class"]], overlays.of_device(connection, row["id"])
            names = (row["id"], row["hostname"]) if row["keeps_name"] else (row["id"],)
            own = found.classes.then(groups)
            planned, is_other = self._publisher.overlay(going.after, row["id"], names, own, had, going.now, found.parts)
            if planned is not None:
                found.overlays.append(planned)
            if had is not None and planned is not None and planned.manifest is None and own.revision < had.revision:
                # the device goes forward to its class's bundle, never back
                found.classes.take(self._publisher.refreshed(going.after, own, going.now))
            if is_other:
                found.alone.append(groups)

    def _obstacles(self, going: EstateTransition, moved: Moved, everywhere: bool) -> dict[str, Sequence[Obstacle]]:
        """What stands in the way of the devices that are moved, or of all, where it is something else than before."""
        roster, then = self._roster, Obstacles(going.after.estate)
        concerned = {**roster.held_by(roster.fleet), **moved} if everywhere else moved
        return dict(roster.other_obstacles(then, concerned))


def _hinders(going: EstateTransition) -> bool:
    """Whether other things may stand in the way of devices that stay in their groups: layers, coverage, site lists."""
    if not _HINDERING.isdisjoint(change.noun for change in going.changes):
        return True
    before, after = going.before.estate, going.after.estate
    changed = changed_keys(going.changes, before, after)
    rulesets, assignments = changed.get("ruleset", set()), changed.get("assignment", set())
    for estate in (before, after):
        sites = {ruleset.key for ruleset in estate.rulesets if ruleset.kind == "site"}
        if not sites.isdisjoint(rulesets):
            return True
        if sites and any(one.ruleset in sites and one.key in assignments for one in estate.assignments):
            return True
    return False


def _new_revision(going: EstateTransition, by: str, reason: str | None) -> NewRevision:
    """What is authored of a change."""
    changes, step = going.changes, step_back(going.before.authored, going.after.authored, going.changes)
    return NewRevision(
        by=by,
        summary=sentences.summary_of(changes),
        reason=reason,
        changes=changes,
        step=step,
        orders={noun: list(map(NOUNS[noun].key_of, NOUNS[noun].of(going.after.estate))) for noun in step.orders},
        feeds_gone=frozenset(change.key for change in changes if change.noun == "feed" and change.verb == "removed"),
    )
