"""The fleet: its devices, the groups they are in, and what becomes of them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

import structlog

from portero.core import sentences, wording
from portero.core.matching.fleet import Fleet
from portero.core.nouns.device import Device
from portero.core.nouns.epoch import EpochState
from portero.core.nouns.group import Group
from portero.core.nouns.membership import MembershipRule
from portero.service.last_heard import Heard
from portero.service.live import Live
from portero.service.problems import Refusal
from portero.service.publishing import Publisher
from portero.service.roster import Assessment, Roster
from portero.service.state import Current
from portero.store import device_lists, devices, epochs
from portero.store.database import Store
from portero.store.moments import moment

_log = structlog.get_logger("portero.fleet")


class FleetKeeper:
    """Looks devices up, and changes what is known of them. Safe to use from several threads."""

    def __init__(
        self,
        store: Store,
        current: Current,
        roster: Roster,
        publisher: Publisher,
        heard: Heard,
        live: Live,
        clock: Callable[[], float],
    ) -> None:
        self._store, self._current, self._roster, self._publisher = store, current, roster, publisher
        self._heard, self._live, self._now = heard, live, clock
        self._warned: str | None = None

    @property
    def members(self) -> Fleet:
        """All devices in memory, with their groups."""
        return self._roster.fleet

    def check_in_seconds(self, device: str) -> int:
        """How far apart the check-ins of the device of that id are to be."""
        return self._current.snapshot.estate.check_in_of(self._roster.fleet.groups_of(device))

    def device(self, name: str) -> Device:
        """The device of that id or hostname. Refusal where there is none, or more than one."""
        with self._store.reading() as connection:
            found = device_lists.find_devices(connection, name, self._now())
        if not found:
            raise Refusal("not-found", f"There is no device “{name[:80]}”; search the list of devices for it.")
        if len(found) > 1:
            ids = wording.joined([device.id for device in found])
            raise Refusal(
                "ambiguous-device",
                f"{len(found)} devices call themselves “{name[:80]}”; say which by its id: {ids}.",
            )
        return found[0]

    def matching(self, rule: MembershipRule) -> frozenset[str]:
        """Ids of the devices that a membership rule would hold."""
        held = self.members.held_by(Group(key="matching", members=rule), moment(self._now()))
        return frozenset(member.id for member in held)

    @contextmanager
    def assessing(self) -> Iterator[Assessment]:
        """A write transaction on the fleet, during which the estate stays as it is."""
        with self._current.alone():
            with self._store.writing() as connection:
                assessment = Assessment(connection, self._roster, self._publisher, self._current.snapshot, self._now())
                yield assessment
            if assessment.assessed:
                self._current.stir()
                self._roster.take(assessment)
        self._live.wake(assessment.moved)

    def epoch(self) -> EpochState:
        """Which life of the service this is, and whether devices hold something newer than it has ever had."""
        snapshot = self._current.snapshot
        epoch, revision = snapshot.naming.epoch, snapshot.revision
        with self._store.reading() as connection:
            ahead = epochs.devices_ahead(connection, epoch, revision, self._now())
        problem = sentences.devices_ahead(ahead) if ahead else None
        return EpochState(epoch=epoch, revision=revision, devices_ahead=ahead, problem=problem)

    def let_time_pass(self) -> None:
        """Take note of devices that have fallen silent, and of groups that time alone has changed."""
        self._heard.write()
        with self.assessing() as assessment:
            silent = devices.fall_silent(assessment.connection, assessment.now)
            due = devices.due(assessment.connection, assessment.now)
            for device in {*due, *(silent if self.members.membership.names_lifecycle else ())}:
                assessment.assess(device)
        if silent or due:
            self._live.tell("device")
        self._warn_of(self.epoch().problem)

    def _warn_of(self, problem: str | None) -> None:
        """Log it, once as long as it is the same."""
        if problem is not None and problem != self._warned:
            _log.warning("devices_ahead", problem=problem)
        self._warned = problem
