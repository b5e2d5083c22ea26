"""The desk: the estate in memory, changes to it, and everything that is asked of it."""

from __future__ import annotations

import sqlite3
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from functools import lru_cache
from pathlib import Path
from typing import Any, NamedTuple

from portero.core import sentences
from portero.core.insight.differences import differences
from portero.core.insight.findings.finding import Found
from portero.core.insight.history import undone
from portero.core.insight.offline import UnknownDevice, with_frozen_members
from portero.core.matching.fleet import Regrouping
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.device import Device
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import SEVERITIES, Findings
from portero.core.nouns.group import Group
from portero.core.nouns.membership import MembershipRule
from portero.core.nouns.preview import Preview
from portero.core.nouns.revision import Change
from portero.core.nouns.verdict import Blocks, Explanation
from portero.core.resolving.bundles import ANY_STATE, compile_bundle, with_overlay
from portero.core.resolving.explaining import Case, blocks, explain
from portero.core.resolving.policy import Policy
from portero.core.resolving.standing import Standing
from portero.formats.bundles import public_text_of, unpack_bundle, unpack_overlay
from portero.formats.category_index import SHIPPED_INDEX, read_index
from portero.service.foresight import Foresight
from portero.service.live import Live
from portero.service.problems import Problem, field_error
from portero.service.publishing import Publisher
from portero.service.roster import Roster, Settlement
from portero.service.secrets import Throttle, signing_key
from portero.store import access, classes, devices, directories, enrolling, estates, findings, overlays
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


class NoBundle(Exception):
    """The store holds neither bundle nor overlay of that digest."""


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
        self._own_policy = lru_cache(maxsize=512)(self._load_own_policy)
        self.directory = self._load_directory()
        with self.store.reading() as connection:
            self.snapshot = Snapshot(estates.load_estate(connection), estates.newest_revision(connection))
            self.roster = Roster(self.publisher, connection, self.snapshot.estate, self.now())
        self.foresight = Foresight(self.store, self.roster, self.index, clock)

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
                    connection, at=now, by=by, summary=summary, reason=reason, changes=changes, before=before
                )
                estates.keep_order(connection, revision, before, after)
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

    def preview(self, edit: Edit, *, noun: str) -> Preview:
        """What a change would do. Nothing is kept and nobody waits. Problem where the edit does not fit."""
        before, revision = self.snapshot
        with self.store.reading() as connection:
            versions = estates.versions(connection, noun)
        after = edit(before, versions)
        refuse_faults(after)
        return self.foresight.preview(before, after, revision, self.directory)

    def estate_at(self, number: int) -> Estate:
        """The estate as it was at a revision. Problem where there is no such revision."""
        with self.store.reading() as connection:
            estate, newest = self.snapshot
            if not 0 <= number <= newest:
                raise Problem("not-found", f"There is no revision {number}; the newest is {newest}.")
            steps = list(estates.steps_back(connection, newest, number))
        return undone(estate, steps) if steps else estate

    def findings(self) -> Findings:
        """What is to be settled, with what somebody has accepted marked."""
        revision, found = self.snapshot.revision, self.findings_with_devices()
        with self.store.reading() as connection:
            accepted = findings.accepted(connection, self.now())
        items = tuple(
            one.model_copy(update={"accepted": accepted[one.id]}) if one.id in accepted else one for one in found.items
        )
        counts = Counter(one.severity for one in items if one.is_open)
        return Findings(
            revision=revision,
            items=items,
            open={severity: counts[severity] for severity in SEVERITIES},
            accepted=sum(not one.is_open for one in items),
            complete=found.complete,
        )

    def findings_with_devices(self) -> Found:
        """What is to be settled, with all devices that each finding is about."""
        return self.foresight.findings(self.snapshot.estate, self.snapshot.revision, self.directory)

    def with_frozen(self, estate: Estate) -> Estate:
        """The estate with what its frozen sets hold, where it does not say: what devices have now."""
        waiting = any(not one.following and one.frozen_members is None for one in estate.application_sets)
        return with_frozen_members(estate, list(self.foresight.programs())) if waiting else estate

    def frozen(self, application_set: ApplicationSet) -> ApplicationSet:
        """The set with what it holds, where it is frozen and does not say."""
        return self.with_frozen(Estate(application_sets=(application_set,))).application_sets[0]

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

    # what is not there is raised, not returned: it may be there later, and must not be remembered as missing

    def _load_policy(self, digest: str) -> Policy:
        """The policy of a class's bundle. NoBundle."""
        with self.store.reading() as connection:
            packed = classes.get_bundle(connection, digest)
        if packed is None:
            raise NoBundle(digest)
        return Policy(unpack_bundle(packed, digest))

    def _load_own_policy(self, digest: str, hostname: str) -> Policy:
        """The policy of an overlay on top of its bundle. NoBundle."""
        with self.store.reading() as connection:
            found = overlays.get_overlay(connection, digest)
            packed = classes.get_bundle(connection, found[1]) if found else None
        if found is None or packed is None:
            raise NoBundle(digest)
        bundle, overlay = unpack_bundle(packed, found[1]), unpack_overlay(found[0], digest, found[1])
        return Policy(with_overlay(bundle, overlay), hostname)

    def _policy_of(self, digest: str, hostname: str) -> Policy | None:
        """The policy of that digest: a class's, which its devices share, or a single device's own."""
        with suppress(NoBundle):
            return self._policy(digest)
        with suppress(NoBundle):
            return self._own_policy(digest, hostname)
        return None

    def note_until_restart(self, connection: sqlite3.Connection, device: str, digest: str, now: float) -> None:
        """The device has applied a bundle: from now on count the assignments in it that hold until it restarts."""
        some = any(one.until_restart for one in self.snapshot.estate.assignments)
        policy = self._policy_of(digest, device) if some else None
        held = [one.key for one in policy.bundle.assignments if one.until_restart] if policy else []
        overlays.note_until_restart(connection, device, held, now)

    def policy(self, device: Device, digest: str | None) -> Policy | None:
        """The policy that a device has, or had, by its digest."""
        return self._policy_of(digest, device.hostname) if digest else None

    def _case(self, device: Device, attempt: Attempt) -> Case:
        """An attempt on a device with all that is known of it."""
        with self.store.reading() as connection:
            since = overlays.until_restart_since(connection, device.id)
        standing = Standing.of(
            device.facts,
            lifecycle=device.lifecycle,
            applied=self.policy(device, device.applied_bundle),
            current=device.applied_bundle == device.bundle,
            since=since,
            coverage=self.snapshot.estate.coverage_table,
            catalogue=self.roster.catalogue,
        )
        filled = attempt.model_copy(
            update={
                "device": device.hostname,
                "at": attempt.at or estates.moment(self.now()),
                "place": attempt.place or device.facts.place,
            }
        )
        return Case(filled, self.index, standing, self.user_groups(attempt.user))

    def _newest_policy(self, device: Device) -> Policy:
        policy = self.policy(device, device.bundle)
        return policy or Policy(compile_bundle(self.snapshot.estate, device.groups))

    def _provenance(self, device: Device) -> dict[str, Any]:
        return {
            "revision": self.snapshot.revision,
            "bundle": device.bundle,
            "applied_bundle": device.applied_bundle,
        }

    def explain(self, attempt: Attempt, left_aside: bool = False) -> Explanation:
        """The whole answer to an attempt on one of the devices. BadUrl where the URL is none."""
        return self._explain(self.device(attempt.device), attempt, left_aside)

    def judging_many(self) -> Callable[[Attempt], Explanation]:
        """Explains one attempt after the other; each device is looked up once. UnknownDevice, BadUrl."""
        known: dict[str, Device] = {}

        def judge(attempt: Attempt) -> Explanation:
            device = known.get(attempt.device)
            if device is None:
                try:
                    device = known[attempt.device] = self.device(attempt.device)
                except Problem as problem:
                    raise UnknownDevice(problem.detail) from problem
            return self._explain(device, attempt)

        return judge

    def _explain(self, device: Device, attempt: Attempt, left_aside: bool = False) -> Explanation:
        whole = None
        if left_aside:
            names = (device.id, device.hostname)
            whole = Policy(compile_bundle(self.snapshot.estate, device.groups, names, ANY_STATE), device.hostname)
        case = self._case(device, attempt)
        return explain(self._newest_policy(device), case, whole=whole, **self._provenance(device))

    def blocks(self, device: Device) -> Blocks:
        """What the device does about each category that some rule names for it."""
        attempt = Attempt(device=device.hostname, url="http://nothing.test/")
        return blocks(self._newest_policy(device), self._case(device, attempt), self._provenance(device))

    # --- people ---

    def _load_directory(self) -> Directory:
        with self.store.reading() as connection:
            return directories.newest(connection) or Directory()

    def user_groups(self, user: str | None) -> frozenset[str]:
        """The user groups that a person is in, by the newest generation of the directory; folded."""
        return self.directory.groups_of(user) if user else frozenset()

    def put_directory(self, directory: Directory, by: str) -> None:
        """Take a new generation of the directory into use. Problem where it does not fit together."""
        refuse_faults(directory)
        with self._lock:
            with self.store.writing() as connection:
                directories.keep(connection, directory, by, self.now())
            self.directory = directory

    def close(self) -> None:
        """Close the store."""
        self.store.close()


def refuse_faults(document: Estate | Directory) -> None:
    """Problem where the parts of a document do not fit together."""
    faults = list(document.faults())
    if faults:
        errors = [field_error(fault.path, fault.message) for fault in faults]
        raise Problem("invalid", sentences.as_sentence(faults[0].message), errors=errors)
