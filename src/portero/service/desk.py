"""The desk: the estate in memory, changes to it, and everything that is asked of it."""

from __future__ import annotations

import sqlite3
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple

from portero.core import sentences
from portero.core.insight.capacity import heaviest
from portero.core.insight.contents import emptied, filled
from portero.core.insight.differences import differences
from portero.core.insight.findings.finding import Found
from portero.core.insight.history import undone
from portero.core.insight.offline import UnknownDevice, with_frozen_members
from portero.core.matching.categories import LayeredIndex
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
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.verdict import Blocks, Explanation
from portero.core.resolving.bundles import ANY_STATE, compile_bundle
from portero.core.resolving.explaining import Case, blocks, explain
from portero.core.resolving.policy import Policy
from portero.core.resolving.standing import Standing
from portero.formats.bundles import public_text_of
from portero.service.bundles import Bundles
from portero.service.feeds.holdings import Holdings
from portero.service.feeds.polling import Feeds
from portero.service.finder import Finder
from portero.service.foresight import Foresight
from portero.service.live import Live
from portero.service.problems import Problem
from portero.service.publishing import Publisher
from portero.service.refusing import refuse_faults, refuse_other_kinds, refuse_overload
from portero.service.roster import Roster, Settlement
from portero.service.secrets import Throttle, signing_key
from portero.store import (
    access,
    devices,
    directories,
    enrolling,
    estates,
    feeds,
    findings,
    indicators,
    overlays,
)
from portero.store.database import Store
from portero.store.feeds import KeptIndex

COUNT_SECONDS = 3600.0
"""How often the indicators are counted, for the forecast."""

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
        with self.store.reading() as connection:
            written, revision = estates.load_estate(connection), estates.newest_revision(connection)
        self.holdings = Holdings(folder, self.store, written, self.now())
        self.snapshot = Snapshot(filled(written, self.holdings.held.contents), revision)
        key = signing_key(folder)
        self.public_key = public_text_of(key)
        self.publisher = Publisher(key, self.index.digest, self.holdings.numbers(self.snapshot.estate))
        self._lock = threading.Lock()
        self._counted_at = 0.0
        self._sentences: dict[str, tuple[Ruleset, str]] = {}
        self.finder = Finder()
        self.bundles = Bundles(self.store)
        self.directory = self._load_directory()
        with self.store.reading() as connection:
            self.roster = Roster(self.publisher, connection, self.snapshot.estate, self.now())
        self.foresight = Foresight(self.store, self.roster, self.index, clock)
        self.feeds = Feeds(self)

    @property
    def index(self) -> LayeredIndex:
        """The category index in force."""
        return self.holdings.held.category_index

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
                after, changes = self._edited(edit, before, estates.versions(connection, noun))
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
                gone = {one.key for one in changes if one.noun == "feed" and one.verb == "removed"}
                feeds.forget(connection, gone)
            # only what is committed is seen
            self.holdings.forget(gone)
            self.roster.adopt(after, regrouping)
            self.snapshot = Snapshot(after, revision)
        self.live.wake(woken)
        self.live.tell("revision", "device")
        return told

    def _edited(self, edit: Edit, before: Estate, versions: Mapping[str, int]) -> tuple[Estate, tuple[Change, ...]]:
        """The estate as the edit makes it, with what feeds bring; and what is authored of the difference. Problem."""
        contents = self.holdings.held.contents
        after = edit(before, versions)
        left = {one.key for one in after.feeds}
        gone, kept = ({key: one for key, one in contents.items() if (key in left) is stays} for stays in (False, True))
        after = filled(emptied(after, gone), kept)
        refuse_faults(after)
        refuse_other_kinds(before, after)
        refuse_overload(before, after, self.roster)
        return after, tuple(differences(emptied(before, contents), emptied(after, contents)))

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
        published = self.publisher.publish(connection, before, after, changes, revision, now, entered)
        estates.set_revision_devices(connection, revision, published.devices)
        moved = regrouping.groups if regrouping else {}
        if nouns & {"settings", "layer modes", "coverage row"}:
            moved = roster.held_by(roster.fleet) | moved
        roster.keep_all_obstacles(connection, after, moved)
        return regrouping, published.changed | left

    def preview(self, edit: Edit, *, noun: str) -> Preview:
        """What a change would do. Nothing is kept and nobody waits. Problem where the edit does not fit."""
        before, revision = self.snapshot
        with self.store.reading() as connection:
            versions = estates.versions(connection, noun)
        after, _ = self._edited(edit, before, versions)
        return self.foresight.preview(before, after, revision, self.directory)

    def ruleset_sentence(self, ruleset: Ruleset) -> str:
        """What a ruleset does, in words; of one that stays as it is, reckoned once."""
        had = self._sentences.get(ruleset.key)
        if had is None or had[0] is not ruleset:
            had = self._sentences[ruleset.key] = (ruleset, sentences.ruleset_sentence(ruleset))
        return had[1]

    def estate_at(self, number: int) -> Estate:
        """The estate as it was at a revision. Problem where there is no such revision."""
        with self.store.reading() as connection:
            estate, newest = self.snapshot
            if not 0 <= number <= newest:
                raise Problem("not-found", f"There is no revision {number}; the newest is {newest}.")
            steps = list(estates.steps_back(connection, newest, number))
        contents = self.holdings.held.contents
        return filled(undone(emptied(estate, contents), steps), contents) if steps else estate

    @property
    def authored(self) -> Estate:
        """The estate without what feeds bring: what is written down."""
        return emptied(self.snapshot.estate, self.holdings.held.contents)

    # --- what feeds bring ---

    def bring_in(self, feed: str, number: int, index: KeptIndex | None, held: bool) -> None:
        """Put a generation of a feed in force: of indicators with their bundles, of categories with their index.

        Problem where machines would have more to carry than they may. `held`: its schedule rests.
        """
        with self._lock:
            before, revision = self.snapshot
            if all(one.key != feed for one in before.feeds):
                raise Problem("not-found", f"There is no feed “{feed}” any more.")
            contents = dict(self.holdings.held.contents)
            if index is None:
                contents[feed] = self.holdings.contents_of(self.holdings.generation(feed, number))
            after = filled(before, contents)
            refuse_overload(before, after, self.roster)
            with self._naming() as connection:
                feeds.put_in_force(connection, feed, number, held)
                self.publisher.generations = feeds.current_numbers(connection, {one.key for one in before.feeds})
                if index is None:
                    woken = self._publish_contents(connection, before, after, feed, revision)
                else:
                    woken = self._publish_index(connection, index)
            self.holdings.take(contents, index)
            if index is not None:
                self.foresight.use(self.index)
            self.roster.adopt(after, None)
            self.snapshot = Snapshot(after, revision)
        self.foresight.forget()
        self.live.wake(woken)
        self.live.tell("feed", "device", "finding")

    @contextmanager
    def _naming(self) -> Iterator[sqlite3.Connection]:
        """A write transaction in which manifests come to name another index or other generations, or stay as they are
        where it fails.
        """
        publisher = self.publisher
        index, generations = publisher.index, publisher.generations
        try:
            with self.store.writing() as connection:
                yield connection
        except BaseException:
            publisher.index, publisher.generations = index, generations
            raise

    def _publish_contents(
        self, connection: sqlite3.Connection, before: Estate, after: Estate, feed: str, revision: int
    ) -> frozenset[int]:
        """Bundles with what a feed brings now; the classes whose bundle is another."""
        changes = [Change(noun="ruleset", key=one.key, verb="changed") for one in after.rulesets if one.feed == feed]
        return self.publisher.publish(connection, before, after, changes, revision, self.now(), ()).changed

    def _publish_index(self, connection: sqlite3.Connection, index: KeptIndex) -> frozenset[int]:
        """Manifests that name the index; every class, if it is another one than before."""
        feeds.set_index(connection, index)
        if index.digest == self.publisher.index:
            return frozenset()
        self.publisher.index = index.digest
        return self.publisher.sign_again(connection, self.now())

    def refresh_index(self, index: KeptIndex) -> None:
        """Put an index of the same generations in force, made on another day or by other settings."""
        with self._lock:
            with self._naming() as connection:
                woken = self._publish_index(connection, index)
            self.holdings.take(self.holdings.held.contents, index)
            self.foresight.use(self.index)
        self.live.wake(woken)
        self.live.tell("feed")

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

    def note_indicators(self) -> None:
        """Keep how many indicators there are today, on the machines that have most and in all by origin."""
        estate = self.snapshot.estate
        most = heaviest(estate, self.roster.fleet.combinations()).indicators
        own = [one for one in estate.rulesets if one.kind == "indicator"]
        hand, feed = (sum(len(one.rules) for one in own if (one.feed is not None) is fed) for fed in (False, True))
        with self.store.writing() as connection:
            indicators.note_count(connection, estates.moment(self.now()).date().toordinal(), most, hand, feed)

    def let_time_pass(self) -> None:
        """Take note of devices that have fallen silent, groups that time alone has changed, feeds that are due."""
        self.feeds.poll_due()
        if self.now() - self._counted_at > COUNT_SECONDS:
            self._counted_at = self.now()
            self.note_indicators()
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

    def note_until_restart(self, connection: sqlite3.Connection, device: str, digest: str, now: float) -> None:
        """The device has applied a bundle: from now on count the assignments in it that hold until it restarts."""
        some = any(one.until_restart for one in self.snapshot.estate.assignments)
        policy = self.bundles.policy(digest, device) if some else None
        held = [one.key for one in policy.bundle.assignments if one.until_restart] if policy else []
        overlays.note_until_restart(connection, device, held, now)

    def policy(self, device: Device, digest: str | None) -> Policy | None:
        """The policy that a device has, or had, by its digest."""
        return self.bundles.policy(digest, device.hostname) if digest else None

    def _case(self, device: Device, attempt: Attempt) -> Case:
        """An attempt on a device with all that is known of it."""
        with self.store.reading() as connection:
            since = overlays.until_restart_since(connection, device.id)
        standing = Standing.of(
            device.facts,
            lifecycle=device.lifecycle,
            applied=self.policy(device, device.applied_bundle),
            current=device.applied_bundle == device.bundle,
            index_current=device.applied_index in (None, self.index.digest),
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
        """Close the store; nothing more is read."""
        self.feeds.close()
        self.store.close()
