"""The desk: the estate in memory, changes to it, and everything that is asked of it."""

from __future__ import annotations

import sqlite3
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path
from typing import Any, NamedTuple

from portero.core import sentences
from portero.core.insight.differences import differences
from portero.core.matching.fleet import Regrouping
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.device import Device
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import Group
from portero.core.nouns.membership import MembershipRule
from portero.core.nouns.revision import Change
from portero.core.nouns.verdict import Blocks, Explanation
from portero.core.resolving.bundles import compile_bundle
from portero.core.resolving.deciding import Policy
from portero.core.resolving.explaining import blocks, explain
from portero.core.resolving.standing import Path as VisitPath
from portero.core.resolving.standing import Standing
from portero.formats.bundles import public_text_of, unpack_bundle
from portero.formats.category_index import SHIPPED_INDEX, read_index
from portero.service.live import Live
from portero.service.problems import Problem, field_error
from portero.service.publishing import Publisher
from portero.service.roster import Roster, Settlement
from portero.service.secrets import Throttle, signing_key
from portero.store import access, classes, devices, enrolling, estates
from portero.store.database import Store

Edit = Callable[[Estate, Mapping[str, int]], Estate]
"""Takes the estate and the versions of the noun's objects; gives the estate as it should be. May raise Problem."""


class Snapshot(NamedTuple):
    """The estate as of one revision; never changed, only replaced."""

    estate: Estate
    revision: int


class Once(NamedTuple):
    """An Idempotency-Key, with a fingerprint of the request that came with it."""

    key: str
    fingerprint: str


class Desk:
    """One running service's state. Safe to use from several threads."""

    def __init__(self, folder: Path, clock: Callable[[], float] = time.time) -> None:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        self.folder = folder
        self.now = clock
        self.store = Store(folder / "portero.sqlite3")
        self.live = Live()
        self.throttle = Throttle()
        self.index_bytes = SHIPPED_INDEX.read_bytes()
        self.index = read_index(self.index_bytes)
        key = signing_key(folder)
        self.public_key = public_text_of(key)
        self.publisher = Publisher(key, self.index.digest)
        self._lock = threading.Lock()
        self._policy = lru_cache(maxsize=512)(self._load_policy)
        with self.store.reading() as connection:
            self.snapshot = Snapshot(estates.load_estate(connection), estates.newest_revision(connection))
            self.roster = Roster(self.publisher, connection, self.snapshot.estate, self.now())

    # --- changing the estate ---

    def change(
        self,
        edit: Edit,
        *,
        noun: str,
        by: str,
        reason: str | None = None,
        once: Once | None = None,
        answer: Callable[[Estate], str] = lambda _estate: "",
    ) -> str:
        """Change the estate: all of it is committed, with its revision and its bundles, or nothing.

        Returns `answer(estate)`, or what was answered before to the same Idempotency-Key. Problem where the
        edit does not fit.
        """
        with self._lock:
            with self.store.writing() as connection:
                if once and (kept := access.recall_answer(connection, by, once.key)):
                    if kept[0] != once.fingerprint:
                        raise Problem("invalid", "This Idempotency-Key was used for another request; take a new one.")
                    return kept[1]
                before, now = self.snapshot.estate, self.now()
                after = edit(before, estates.versions(connection, noun))
                refuse_faults(after)
                changes = tuple(differences(before, after))
                told = answer(after)
                if once:
                    access.keep_answer(connection, by, once.key, once.fingerprint, told, now)
                if not changes:
                    return told
                summary = sentences.summary_of(changes)
                revision = estates.write_revision(
                    connection, at=now, by=by, summary=summary, reason=reason, changes=changes
                )
                regrouping, woken = self._carry_out(connection, before, after, changes, revision, now)
            # only what is committed is seen
            self.roster.adopt(after, regrouping)
            self.snapshot = Snapshot(after, revision)
        self.live.wake(woken)
        self.live.tell("revision", "device")
        return told

    def _carry_out(
        self,
        connection: sqlite3.Connection,
        before: Estate,
        after: Estate,
        changes: tuple[Change, ...],
        revision: int,
        now: float,
    ) -> tuple[Regrouping | None, frozenset[int]]:
        """Groups, bundles and obstacles as the changes make them; the regrouping, and the classes to wake."""
        nouns, roster = {change.noun for change in changes}, self.roster
        regrouping, left, entered = None, set[int](), set[int]()
        if nouns & {"group", "precedence"}:
            regrouping = roster.plan(after, now)
            left, entered = roster.move(connection, after, regrouping, revision, now)
        changed = self.publisher.publish(connection, before, after, changes, revision, now, entered)
        moved = regrouping.groups if regrouping else {}
        if nouns & {"settings", "layer modes", "coverage row"}:
            moved = roster.held_by(roster.fleet) | moved
        roster.keep_all_obstacles(connection, after, moved)
        return regrouping, changed | left

    # --- the fleet ---

    @contextmanager
    def settling(self) -> Iterator[Settlement]:
        """A write transaction on the fleet, during which the estate stays as it is."""
        with self._lock:
            with self.store.writing() as connection:
                settlement = Settlement(connection, self.roster, self.snapshot.revision, self.now())
                yield settlement
            self.roster.take(settlement)
        self.live.wake(settlement.moved)

    def let_time_pass(self) -> None:
        """Take note of devices that have fallen silent, and of groups that time alone has changed."""
        with self.settling() as settlement:
            silent = enrolling.fall_silent(settlement.connection, settlement.now)
            due = enrolling.due(settlement.connection, settlement.now)
            for device in {*due, *(silent if self.roster.fleet.membership.names_lifecycle else ())}:
                settlement.settle(device)
        if silent or due:
            self.live.tell("device")

    # --- asking ---

    def device(self, name: str) -> Device:
        """The device of that id or hostname. Problem where there is none, or more than one."""
        with self.store.reading() as connection:
            found = devices.find_devices(connection, name, self.now())
        if not found:
            raise Problem("not-found", f"There is no device “{name[:80]}”; search the list of devices for it.")
        if len(found) > 1:
            ids = sentences.joined([device.id for device in found])
            raise Problem(
                "ambiguous-device",
                f"{len(found)} devices call themselves “{name[:80]}”; say which by its id: {ids}.",
            )
        return found[0]

    def matching(self, rule: MembershipRule) -> frozenset[str]:
        """Ids of the devices that a membership rule would hold."""
        held = self.roster.fleet.held_by(Group(key="matching", members=rule), estates.moment(self.now()))
        return frozenset(member.id for member in held)

    def _load_policy(self, digest: str) -> Policy | None:
        with self.store.reading() as connection:
            packed = classes.get_bundle(connection, digest)
        return Policy(unpack_bundle(packed, digest)) if packed else None

    def _judged(self, device: Device) -> tuple[Policy, Standing, dict[str, Any]]:
        snapshot = self.snapshot
        policy = self._policy(device.bundle) if device.bundle else None
        if policy is None:
            policy = Policy(compile_bundle(snapshot.estate, device.groups))
        applied = self._policy(device.applied_bundle) if device.applied_bundle else None
        standing = Standing.of(
            device.facts,
            lifecycle=device.lifecycle,
            applied=applied,
            current=device.applied_bundle == device.bundle,
            coverage=snapshot.estate.coverage_table,
        )
        provenance = {
            "revision": snapshot.revision,
            "bundle": device.bundle,
            "applied_bundle": device.applied_bundle,
        }
        return policy, standing, provenance

    def explain(self, attempt: Attempt) -> Explanation:
        """The whole answer to an attempt on one of the devices. BadUrl where the URL is none."""
        device = self.device(attempt.device)
        policy, standing, provenance = self._judged(device)
        filled = attempt.model_copy(
            update={
                "device": device.hostname,
                "at": attempt.at or estates.moment(self.now()),
                "place": attempt.place or device.facts.place,
            }
        )
        return explain(policy, filled, self.index, standing, **provenance)

    def blocks(self, device: Device) -> Blocks:
        """What the device does about each category that some rule names for it."""
        policy, standing, provenance = self._judged(device)
        return blocks(policy, device.hostname, standing, VisitPath(device.facts.place), provenance)

    def close(self) -> None:
        """Close the store."""
        self.store.close()


def refuse_faults(estate: Estate) -> None:
    """Problem where the estate's parts do not fit together."""
    faults = list(estate.faults())
    if faults:
        errors = [field_error(fault.path, fault.message) for fault in faults]
        raise Problem("invalid", sentences.as_sentence(faults[0].message), errors=errors)
