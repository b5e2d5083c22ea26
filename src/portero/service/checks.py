"""What machines do about attempts, and why: decided by the code that decides on the machines."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from datetime import datetime
from typing import Any

from portero.core.insight.blocks import blocks
from portero.core.insight.effects.subjects import KnownSubjects
from portero.core.insight.offline import UnknownDevice
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.device import Device, Facts, Lifecycle
from portero.core.nouns.estate import Estate
from portero.core.nouns.verdict import Blocks, Explanation
from portero.core.resolving.compiling import ANY_STATE, compile_bundle
from portero.core.resolving.enforcement import Machine
from portero.core.resolving.explaining import Case, explain
from portero.core.resolving.policy import Policy
from portero.service.bundles import Bundles
from portero.service.directory import DirectoryKeeper
from portero.service.feeds.holdings import Holdings
from portero.service.fleet import FleetKeeper
from portero.service.problems import Refusal
from portero.service.roster import Roster
from portero.service.state import Current
from portero.store import overlays
from portero.store.database import Store
from portero.store.moments import moment


class Checks:
    """Decides attempts on the devices of the fleet, as they should have it and as they have it."""

    def __init__(
        self,
        store: Store,
        current: Current,
        fleet: FleetKeeper,
        roster: Roster,
        people: DirectoryKeeper,
        holdings: Holdings,
        bundles: Bundles,
        clock: Callable[[], float],
    ) -> None:
        self._store, self._current, self._fleet, self._roster = store, current, fleet, roster
        self._people, self._holdings, self._bundles, self._now = people, holdings, bundles, clock

    def explain(self, attempt: Attempt, left_aside: bool = False) -> Explanation:
        """The whole answer to an attempt on one of the devices. Refusal; BadUrl where the URL is none."""
        return self._explain(self._fleet.device(attempt.device), attempt, left_aside)

    def judging_many(self) -> Callable[[Attempt], Explanation]:
        """Explains one attempt after the other; each device is looked up once. UnknownDevice, BadUrl."""
        known: dict[str, Device] = {}

        def judge(attempt: Attempt) -> Explanation:
            device = known.get(attempt.device)
            if device is None:
                try:
                    device = known[attempt.device] = self._fleet.device(attempt.device)
                except Refusal as problem:
                    raise UnknownDevice(problem.detail) from problem
            return self._explain(device, attempt)

        return judge

    def blocks(self, device: Device) -> Blocks:
        """What the device does about each category, and about all else, that some rule names for it."""
        attempt = Attempt(device=device.hostname, url="http://nothing.test/")
        estate = self._current.snapshot.estate
        known = KnownSubjects.of((estate,), lambda: device.facts.applications, self._roster.catalogue)
        case, provenance = self._case(device, attempt), self._provenance(device)
        return blocks(self._newest_policy(device), case, estate, known, provenance)

    @property
    def some_end_at_restarts(self) -> bool:
        """Whether some assignment holds until machines restart."""
        return self._current.snapshot.estate.some_end_at_restarts

    def note_until_restart(self, connection: sqlite3.Connection, device: str, digest: str, now: float) -> None:
        """The device has applied a bundle: from now on count the assignments in it that hold until it restarts."""
        policy = self._bundles.policy(digest, device) if self.some_end_at_restarts else None
        held = (
            [assignment.key for assignment in policy.bundle.assignments if assignment.until_restart] if policy else []
        )
        overlays.note_until_restart(connection, device, held, now)

    def _explain(self, device: Device, attempt: Attempt, left_aside: bool = False) -> Explanation:
        whole = None
        if left_aside:
            names, estate = (device.id, device.hostname), self._current.snapshot.estate
            whole = Policy(compile_bundle(estate, device.groups, names, ANY_STATE), device.hostname)
        case = self._case(device, attempt)
        return explain(self._newest_policy(device), case, whole=whole, **self._provenance(device))

    def seat(self, device: Device) -> tuple[Policy, Callable[[Attempt], Case]]:
        """The policy that a device should have, and what makes attempts on it into cases; it is looked at once."""
        machine = self._machine(device)
        return self._newest_policy(device), lambda attempt: self._case(device, attempt, machine)

    def seat_then(
        self, facts: Facts, policy: Policy, estate: Estate, lifecycle: Lifecycle, at: datetime
    ) -> Callable[[Attempt], Case]:
        """What makes attempts at a moment into cases on a machine as it was then, once it held its policy."""
        machine = Machine.of(
            facts,
            lifecycle=lifecycle,
            applied=policy,
            coverage=estate.coverage_table,
            catalogue=self._roster.catalogue,
        )
        index = self._holdings.index_in_force

        def case_of(attempt: Attempt) -> Case:
            when, where = attempt.at or at, attempt.place or facts.place
            filled = attempt.model_copy(update={"device": facts.hostname, "at": when, "place": where})
            return Case(filled, index, machine, self._people.user_groups(attempt.user))

        return case_of

    def _machine(self, device: Device) -> Machine:
        with self._store.reading() as connection:
            since = overlays.until_restart_since(connection, device.id)
        index = self._holdings.index_in_force
        return Machine.of(
            device.facts,
            lifecycle=device.lifecycle,
            applied=self._policy(device, device.applied_bundle),
            current=device.applied_bundle == device.bundle,
            index_current=device.applied_index in (None, index.digest),
            has_index=device.applied_index != "",
            since=since,
            coverage=self._current.snapshot.estate.coverage_table,
            catalogue=self._roster.catalogue,
        )

    def _case(self, device: Device, attempt: Attempt, machine: Machine | None = None) -> Case:
        """An attempt on a device with all that is known of it."""
        filled = attempt.model_copy(
            update={
                "device": device.hostname,
                "at": attempt.at or moment(self._now()),
                "place": attempt.place or device.facts.place,
            }
        )
        known = machine or self._machine(device)
        return Case(filled, self._holdings.index_in_force, known, self._people.user_groups(attempt.user))

    def _policy(self, device: Device, digest: str | None) -> Policy | None:
        """The policy that a device has, or had, by its digest."""
        return self._bundles.policy(digest, device.hostname) if digest else None

    def _newest_policy(self, device: Device) -> Policy:
        policy = self._policy(device, device.bundle)
        return policy or Policy(compile_bundle(self._current.snapshot.estate, device.groups))

    def _provenance(self, device: Device) -> dict[str, Any]:
        return {
            "revision": self._current.snapshot.revision,
            "bundle": device.bundle,
            "applied_bundle": device.applied_bundle,
        }
