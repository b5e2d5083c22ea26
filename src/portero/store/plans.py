"""What a change comes to, as a value; and the one place that writes it."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from portero.core.insight.readiness import Obstacle
from portero.core.insight.revisions import Step
from portero.core.nouns.revision import Change
from portero.formats.bundles import Packed
from portero.store import catalogue, classes, epochs, feeds, overlays, parts, revisions
from portero.store.estate import apply_changes, put_in_order
from portero.store.feeds import IndexRecord
from portero.store.readiness import keep_obstacles

Groups = tuple[str, ...]


class NewRevision(NamedTuple):
    """What is authored: who, why, each object, and what it takes to undo it."""

    by: str
    summary: str
    reason: str | None
    changes: tuple[Change, ...]
    step: Step
    orders: Mapping[str, Sequence[str]]
    """Keys of those lists that stand in another order than before with what is new at the end."""
    feeds_gone: frozenset[str]


class PlannedClass(NamedTuple):
    """What a class should have from now on. `packed` is None where that is the bundle it has, signed anew; `id` is
    None where the class is new.
    """

    id: int | None
    groups: Groups
    packed: Packed | None
    manifest: str
    revision: int


class PlannedOverlay(NamedTuple):
    """What a device should have on top of its class's bundle: nothing, where there is no manifest; what it has, signed
    anew, where there are no bytes.
    """

    device: str
    manifest: str | None = None
    packed: Packed | None = None
    bundle: str = ""
    revision: int = 0


class GenerationInForce(NamedTuple):
    """A generation of a feed that counts from now on. `held`: its schedule rests."""

    feed: str
    number: int
    held: bool


@dataclass(frozen=True)
class Plan:
    """All that a change writes, reckoned beforehand."""

    now: float
    revision: int
    authored: NewRevision | None = None
    classes: Sequence[PlannedClass] = ()
    parts: Sequence[Packed] = ()
    """What documents name that the store has not."""
    moves: Mapping[str, Groups] = field(default_factory=dict)
    """Devices that come into another class, with its groups."""
    rechecks: Mapping[str, float | None] | None = None
    """When time alone may next change each device's groups."""
    overlays: Sequence[PlannedOverlay] = ()
    obstacles: Mapping[str, Sequence[Obstacle]] = field(default_factory=dict)
    reached: frozenset[Groups] = frozenset()
    """The groups of the classes whose devices get something new."""
    reached_alone: int = 0
    """How many devices of other classes get something new."""
    generation: GenerationInForce | None = None
    index: IndexRecord | None = None
    epoch: int | None = None
    """The epoch for which all is signed anew."""
    woken: frozenset[int] = frozenset()
    """The classes to wake once it is written."""


def write_plan(connection: sqlite3.Connection, plan: Plan) -> None:
    """Write all of a plan, within the transaction that the caller has begun."""
    if plan.authored is not None:
        _write_revision(connection, plan, plan.authored)
    if plan.generation is not None:
        feeds.put_in_force(connection, *plan.generation)
    if plan.index is not None:
        feeds.set_index(connection, plan.index)
    if plan.epoch is not None:
        epochs.note_signed(connection, plan.epoch)
    parts.keep_parts(connection, plan.parts, plan.now)
    ids = {planned.groups: write_class(connection, planned, plan.now) for planned in plan.classes}
    if plan.moves:
        known = {device_class.groups: device_class.id for device_class in classes.list_classes(connection)} | ids
        classes.move_devices(connection, {device: known[groups] for device, groups in plan.moves.items()})
    if plan.rechecks is not None:
        classes.set_rechecks(connection, plan.rechecks)
    for overlay in plan.overlays:
        write_overlay(connection, overlay, plan.now)
    for device, obstacles in plan.obstacles.items():
        keep_obstacles(connection, device, obstacles)
    if plan.moves:
        classes.drop_empty_classes(connection)
    if plan.authored is not None:
        devices = classes.devices_in(connection, plan.reached) + plan.reached_alone
        revisions.set_revision_devices(connection, plan.revision, devices)


def _write_revision(connection: sqlite3.Connection, plan: Plan, new: NewRevision) -> None:
    revisions.write_revision(connection, plan.revision, plan.now, new.by, new.summary, new.reason, new.step)
    apply_changes(connection, plan.revision, new.changes)
    for noun, keys in new.orders.items():
        put_in_order(connection, noun, keys)
    feeds.forget(connection, new.feeds_gone)
    catalogue.forget_known(connection, new.feeds_gone)


def write_class(connection: sqlite3.Connection, planned: PlannedClass, now: float) -> int:
    """Give a class, which may be new, what it should have; its id."""
    id, packed, revision, manifest = planned.id, planned.packed, planned.revision, planned.manifest
    if packed is not None:
        classes.keep_bundle(connection, packed, now)
        if id is None:
            return classes.add_class(connection, planned.groups, packed.digest, revision, manifest, now)
        classes.set_bundle(connection, id, packed.digest, revision, manifest, now)
    elif id is not None:
        classes.refresh_manifest(connection, id, revision, manifest)
    return id or 0


def write_overlay(connection: sqlite3.Connection, planned: PlannedOverlay, now: float) -> None:
    """Give a device its overlay, or take the one it has away."""
    if planned.manifest is None:
        overlays.drop_overlay(connection, planned.device)
    elif planned.packed is None:
        overlays.refresh_manifest(connection, planned.device, planned.manifest)
    else:
        overlays.set_overlay(
            connection, planned.device, planned.packed, planned.bundle, planned.revision, planned.manifest, now
        )
