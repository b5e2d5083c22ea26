"""The fleet in memory beside the store: who is in which groups, and what stands in their way, kept up to date."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import lru_cache

from portero.core.insight.readiness import Obstacle, SiteLists, modes_of, obstacles
from portero.core.matching.applications import catalogue_of
from portero.core.matching.fleet import Fleet, Regrouping
from portero.core.matching.members import Member, facts_from_json
from portero.core.matching.membership import Membership
from portero.core.nouns.estate import Estate
from portero.core.resolving.documents import Parts
from portero.service.publishing import Publisher
from portero.service.state import Snapshot
from portero.store import catalogue, classes, devices, overlays, parts
from portero.store.classes import DeviceClass
from portero.store.database import Writer
from portero.store.moments import moment
from portero.store.plans import Groups, write_class, write_overlay
from portero.store.readiness import keep_obstacles


def member_of(row: sqlite3.Row) -> Member:
    """A stored device as membership looks at it."""
    lifecycle = "silent" if row["told_silent"] and row["lifecycle"] == "enrolled" else row["lifecycle"]
    facts = facts_from_json(row["document"])
    return Member(row["id"], facts, json.loads(row["labels"]), lifecycle, bool(row["keeps_name"]))


class Obstacles:
    """What stands in the way of devices under one estate; worked out once for each combination that occurs."""

    def __init__(self, estate: Estate) -> None:
        self._estate = estate
        self._modes = lru_cache(maxsize=20_000)(lambda groups: modes_of(estate, groups))
        self._known: dict[object, tuple[Obstacle, ...]] = {}
        self._sites = SiteLists(estate)

    def of(self, member: Member, groups: tuple[str, ...]) -> tuple[Obstacle, ...]:
        """What the device's own facts put in the way."""
        if member.lifecycle == "invited":
            return ()
        facts, modes = member.facts, self._modes(groups)
        names = (member.id, facts.hostname) if member.keeps_name else (member.id,)
        sites = self._sites.of(groups, names) if member.browsers else None
        key = (
            *modes.values(),
            facts.layers,
            facts.layer_versions,
            member.browsers,
            facts.zone is None,
            facts.clock_ahead,
            facts.os,
            sites,
        )
        known = self._known.get(key)
        if known is None:
            known = self._known[key] = obstacles(facts, modes, self._estate.coverage_table, sites)
        return known


class Assessment:
    """Devices whose groups are reckoned anew within one transaction. Memory follows once that is committed."""

    def __init__(
        self, connection: Writer, roster: Roster, publisher: Publisher, snapshot: Snapshot, now: float
    ) -> None:
        self.connection, self.now = connection, now
        self._roster, self._publisher, self._snapshot = roster, publisher, snapshot
        self.assessed: dict[str, Member | None] = {}
        self.moved: set[int] = set()
        """Classes that devices left: whoever waits there has another bundle to fetch."""

    @contextmanager
    def apart(self) -> Iterator[None]:
        """What is done within is undone where it raises, and nothing else of the transaction."""
        assessed, moved = dict(self.assessed), set(self.moved)
        try:
            with self.connection.apart():
                yield
        except BaseException:
            self.assessed, self.moved = assessed, moved
            raise

    def assess(self, device: str) -> None:
        """Reckon a device's groups, class and obstacles anew from what the store holds of it now."""
        rows = devices.member_rows(self.connection, device)
        if not rows or rows[0]["lifecycle"] == "retired":
            self.assessed[device] = None
            return
        member, before = member_of(rows[0]), rows[0]["class"]
        self.assessed[device] = member
        membership, now = self._roster.fleet.membership, moment(self.now)
        groups, following = membership.groups_of(member, now), membership.next_change(member, now)
        own = self.class_of(groups)
        devices.set_class(self.connection, device, own.id, following.timestamp() if following else None)
        if self._snapshot.estate.named_devices:
            self._overlay(member, own)
        keep_obstacles(self.connection, device, self._roster.obstacles.of(member, groups))
        if before is not None and before != own.id:
            self.moved.add(before)

    def class_of(self, groups: Groups) -> DeviceClass:
        """The class of these groups; it is made, with its bundle, where it is new."""
        known, named = classes.class_of(self.connection, groups), Parts()
        if known is None:
            planned = self._publisher.compiled(self._snapshot, groups, None, self.now, named)
            self._keep(named)
        else:
            planned = self._publisher.refreshed(self._snapshot, known, self.now)
        if planned is not None:
            known = classes.get_class(self.connection, write_class(self.connection, planned, self.now))
        assert known is not None
        return known

    def _keep(self, named: Parts) -> None:
        """Keep the parts that something names."""
        parts.keep_parts(self.connection, parts.lacking(self.connection, named), self.now)

    def _overlay(self, member: Member, own: DeviceClass) -> None:
        names = (member.id, member.facts.hostname) if member.keeps_name else (member.id,)
        had = overlays.of_device(self.connection, member.id)
        planned, _ = self._publisher.overlay(self._snapshot, member.id, names, own, had, self.now, named := Parts())
        if planned is not None:
            self._keep(named)
            write_overlay(self.connection, planned, self.now)

    def assess_namesakes(self, hostname: str) -> None:
        """The device that had a hostname first keeps it; where that is another one now, reckon both anew."""
        for place, row in enumerate(devices.namesakes(self.connection, hostname)):
            keeps = place == 0
            if bool(row["keeps_name"]) != keeps:
                devices.set_keeps_name(self.connection, row["id"], keeps)
                self.assess(row["id"])


class Roster:
    """The fleet under the newest estate. Its callers see to it that one changes it at a time."""

    def __init__(self, connection: sqlite3.Connection, estate: Estate, now: float) -> None:
        self.obstacles = Obstacles(estate)
        self._catalogued = -1
        self._catalogue: Mapping[str, frozenset[str]] = {}
        self._known: Mapping[str, frozenset[str]] = catalogue.known_purposes(connection)
        self.fleet = Fleet(Membership(estate.groups, estate.group_order))
        self.fleet.put_all([member_of(row) for row in devices.member_rows(connection)], moment(now))

    @property
    def catalogue(self) -> Mapping[str, frozenset[str]]:
        """Categories of the products that are found on devices, or that feeds name, by product, folded."""
        state = self.fleet.changes
        if state != self._catalogued:
            lists = {member.applications for member in self.fleet if member.applications}
            told = catalogue_of(item for shared in lists for item in shared.items)
            known = {product: had | told.get(product, frozenset()) for product, had in self._known.items()}
            self._catalogue = told | known
            self._catalogued = state
        return self._catalogue

    def take_known(self, known: Mapping[str, frozenset[str]]) -> None:
        """Feeds of programs say from now on what these products are for."""
        self._known, self._catalogued = known, -1

    def take(self, assessment: Assessment) -> None:
        """What was committed is so in memory too."""
        at = moment(assessment.now)
        for device, member in assessment.assessed.items():
            if member is None:
                self.fleet.drop(device)
            else:
                self.fleet.put(member, at)

    def plan(self, estate: Estate, now: float) -> Regrouping:
        """What the estate's groups would come to for every device."""
        membership = Membership(estate.groups, estate.group_order, self.fleet.membership)
        return self.fleet.plan(membership, moment(now))

    def rechecks(self, regrouping: Regrouping, now: float) -> dict[str, float | None] | None:
        """When time alone may next change each device's groups; None where it never does."""
        if not regrouping.membership.names_time:
            return None
        at = moment(now)
        following = {member.id: regrouping.membership.next_change(member, at) for member in self.fleet}
        return {device: after.timestamp() if after else None for device, after in following.items()}

    def other_obstacles(
        self, then: Obstacles, groups: Mapping[str, Groups]
    ) -> Iterator[tuple[str, Sequence[Obstacle]]]:
        """Of these devices, given with their groups, those in whose way something else stands than before; and what."""
        for device, own in groups.items():
            member = self.fleet.get(device)
            if member is None:
                continue
            found = then.of(member, own)
            if found != self.obstacles.of(member, self.fleet.groups_of(device)):
                yield device, found

    def adopt(self, estate: Estate, regrouping: Regrouping | None) -> None:
        """The estate is committed: from now on it counts."""
        if regrouping is not None:
            self.fleet.take(regrouping)
        self.obstacles = Obstacles(estate)

    def held_by(self, members: Iterable[Member]) -> dict[str, Groups]:
        """The groups of some devices, by id."""
        return {member.id: self.fleet.groups_of(member.id) for member in members}
