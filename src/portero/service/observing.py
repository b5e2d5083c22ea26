"""Observed runs: machines are asked to try probes now, and what each saw is kept beside what was predicted."""

from __future__ import annotations

import base64
import binascii
import secrets
import threading
import time
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass, field

import structlog
import zstandard

from portero.core.insight.observing import asked_as_tried, observation, observed, ordered
from portero.core.insight.predicting import Alike, Numbered, Scope
from portero.core.insight.whys import WhyAsked
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.device import Device
from portero.core.nouns.finding import DeviceName
from portero.core.nouns.observation import (
    MOST_ORDERED,
    MOST_PICTURE,
    Observation,
    ProbeOrder,
    ProbesSeen,
    Seen,
)
from portero.core.nouns.run import NewRun, Run
from portero.formats.cases import case_of, write_case
from portero.service.fleet import FleetKeeper
from portero.service.live import Live
from portero.service.problems import Refusal
from portero.service.runs import Behind, Runs, WantedRun
from portero.service.whys import Whys
from portero.store import observations
from portero.store.database import Store
from portero.store.moments import moment

MOST_ASKED = 1_000
"""So many machines are asked in one run."""
MOST_OBSERVATIONS = 50_000
"""And so often all of them together try something."""
MOST_CASES, MOST_CASES_OF_RUN = 5, 50
"""So many cases of one machine, and of all of them, are kept of a run."""
TOLD_SECONDS = 0.5
_PNG = b"\x89PNG\r\n\x1a\n"
_log = structlog.get_logger("portero.observing")


@dataclass
class _Order:
    """What one machine is asked in a run."""

    once: str
    run: int
    alike: Alike
    probes: list[Numbered]
    pictures: bool = False
    told: bool = False
    taken: bool = False


@dataclass
class _Asking:
    """An observed run under way."""

    wanted: WantedRun
    orders: dict[str, _Order]
    """By the machine's id."""
    until: float
    began: float
    answered: set[str] = field(default_factory=set)
    seen: dict[tuple[str, int], dict[str, Observation]] = field(default_factory=dict)
    """What was seen of a probe, by the machine's id."""
    told_at: float = 0.0
    cases: int = 0


class Observing:
    """Asks machines, and keeps what they see. Safe to use from several threads."""

    def __init__(
        self,
        store: Store,
        runs: Runs,
        fleet: FleetKeeper,
        whys: Whys,
        live: Live,
        clock: Callable[[], float],
    ) -> None:
        self._store, self._runs, self._fleet, self._whys = store, runs, fleet, whys
        self._live, self._now = live, clock
        self._lock = threading.RLock()
        self._asking: dict[int, _Asking] = {}
        self._orders: dict[str, list[_Order]] = {}
        """Those that are open, by the machine's id."""

    def start(self, new: NewRun, by: str) -> Run:
        """Ask the machines on which the probes count; what has come of it `Runs` tells. Refusal."""
        wanted = self._runs.wanted(new, by)
        orders = self._orders_of(wanted)
        wanted = self._runs.begun(wanted)
        asking = _Asking(wanted, orders, time.monotonic() + new.seconds, time.perf_counter())
        with self._lock:
            self._asking[wanted.run.id] = asking
            for device, order in orders.items():
                order.run, order.pictures = wanted.run.id, new.pictures
                self._orders.setdefault(device, []).append(order)
        with self._store.writing() as connection:
            observations.thin_out(connection)
        self._live.wake_devices(list(orders))
        return wanted.run

    def _orders_of(self, wanted: WantedRun) -> dict[str, _Order]:
        """What each machine is asked: those probes that count there. Refusal."""
        within = Scope(wanted.run.on) if wanted.run.on else None
        scopes = [(one, Scope(one.set.targets_of(one.probe))) for one in wanted.probes]
        orders: dict[str, _Order] = {}
        number = 0
        for member in self._fleet.members:
            name = DeviceName(id=member.id, hostname=member.facts.hostname)
            groups = self._fleet.members.groups_of(member.id)
            bare = Alike(groups, (name,), _nothing)
            if member.lifecycle not in ("enrolled", "silent") or (within is not None and not within.of(bare)):
                continue
            probes = [one for one, scope in scopes if scope.of(bare)]
            if not probes:
                continue
            if len(probes) > MOST_ORDERED:
                said = f"{name.hostname} would try {len(probes):,} probes; a machine tries {MOST_ORDERED} at the most."
                raise Refusal("invalid", said)
            number += len(probes)
            device = self._fleet.device(member.id)
            alike = Alike(groups, (name,), self._whys.asking(device))
            orders[member.id] = _Order(secrets.token_urlsafe(24), 0, alike, probes)
            if len(orders) > MOST_ASKED or number > MOST_OBSERVATIONS:
                raise Refusal(
                    "invalid",
                    f"That would ask more than {MOST_ASKED:,} machines, or try more than {MOST_OBSERVATIONS:,} probes"
                    "; name fewer with “on”, or take a sample of them.",
                )
        if not orders:
            raise Refusal("invalid", "There is no machine to ask: these probes count on none that has joined.")
        return orders

    # --- what devices say ---

    def awaits(self, device: str, again: bool = False) -> bool:
        """Whether the device is to try something of which it was not told yet, or (`again`) that it has not taken yet.
        From now on it has been told.
        """
        if not self._orders:
            return False
        with self._lock:
            mine = [one for one in self._orders.get(device, ()) if not one.taken and (again or not one.told)]
            for one in mine:
                one.told = True
        return bool(mine)

    def take(self, device: str) -> list[ProbeOrder]:
        """What the device is to try; each order is given out once."""
        with self._lock:
            mine = [one for one in self._orders.get(device, ()) if not one.taken]
            for one in mine:
                one.told = one.taken = True
            left = {one.once: self._asking[one.run].until - time.monotonic() for one in mine}
        return [
            ProbeOrder(
                once=one.once,
                seconds=max(0.0, round(left[one.once], 1)),
                probes=tuple(ordered(number, each.probe) for number, each in enumerate(one.probes, start=1)),
                pictures=one.pictures,
            )
            for one in mine
        ]

    def answered(self, device: str, told: ProbesSeen) -> None:
        """The device tells what it saw. Refusal where it has no such order that is open: its number is good once."""
        with self._lock:
            orders = self._orders.get(device, [])
            order = next((one for one in orders if secrets.compare_digest(one.once, told.once)), None)
            if order is None:
                raise Refusal("not-found", "This device was not asked for that (any more).")
            orders.remove(order)
            if not orders:
                del self._orders[device]
            asking = self._asking[order.run]
        # as it is now: it may have applied something since it was asked
        pictures = {one.number: png for one in told.seen if order.pictures and (png := _png(one)) is not None}
        found, cases = self._beside(asking, order, self._fleet.device(device), told, pictures)
        with self._store.writing() as connection:
            observations.keep(connection, list(found.values()), cases)
            observations.note_settled(connection, list(found.values()))
            observations.keep_pictures(connection, list(_pictured(order, found, pictures)), asking.wanted.run.by)
        if cases:
            self._live.tell("finding")
        with self._lock:
            asking.answered.add(device)
            for key, each in found.items():
                asking.seen.setdefault(key, {})[device] = each
            is_whole = len(asking.answered) == len(asking.orders)
        self._tell(asking)
        if is_whole:
            self._end(asking)

    def _beside(
        self, asking: _Asking, order: _Order, device: Device, told: ProbesSeen, pictures: Collection[int]
    ) -> tuple[dict[tuple[str, int], Observation], dict[tuple[str, int], bytes]]:
        """What was seen beside what is predicted, by set and number; and the cases of what was seen otherwise."""
        found: dict[tuple[str, int], Observation] = {}
        cases: dict[tuple[str, int], bytes] = {}
        alike, at = order.alike._replace(ask=self._whys.asking(device)), moment(self._now())
        for seen in told.seen:
            if seen.number > len(order.probes):
                continue
            one = order.probes[seen.number - 1]
            key = one.set.key, one.number
            bare = seen.model_copy(update={"picture": None})
            told_of = observation(order.run, one, alike, bare, at, told.bundle)
            found[key] = told_of.model_copy(update={"has_picture": seen.number in pictures})
            if told_of.agrees is False and len(cases) < MOST_CASES and asking.cases < MOST_CASES_OF_RUN:
                asking.cases += 1
                case = case_of(asked_as_tried(one.probe, alike, bare), device.facts, found[key])
                cases[key] = zstandard.compress(write_case(case))
        return found, cases

    def _tell(self, asking: _Asking) -> None:
        if time.perf_counter() - asking.told_at > TOLD_SECONDS:
            asking.told_at = time.perf_counter()
            done = len(asking.answered) / len(asking.orders)
            more = {"done": done, "devices": len(asking.orders), "answered": len(asking.answered)}
            self._runs.note(asking.wanted.run.model_copy(update=more))

    # --- the end ---

    def let_time_pass(self) -> None:
        """End those runs whose time is over."""
        now = time.monotonic()
        with self._lock:
            over = [one for one in self._asking.values() if now >= one.until]
        for one in over:
            self._end(one)

    def close(self) -> None:
        """Let go of what is under way: the next start says that it was interrupted."""
        with self._lock:
            self._asking.clear()
            self._orders.clear()

    def _end(self, asking: _Asking) -> None:
        run = asking.wanted.run
        with self._lock:
            if self._asking.pop(run.id, None) is None:
                return
            for device, order in asking.orders.items():
                left = [one for one in self._orders.get(device, ()) if one is not order]
                if left:
                    self._orders[device] = left
                else:
                    self._orders.pop(device, None)
        try:
            self._sum_up(asking)
        except Exception as problem:
            _log.exception("run_failed", run=run.id)
            self._runs.fail(run, f"What machines saw could not be summed up: {problem}")

    def _sum_up(self, asking: _Asking) -> None:
        run, orders = asking.wanted.run, asking.orders.values()
        behind = Behind([order.alike.devices[0] for order in orders])
        results, nowhere = [], 0
        for one in asking.wanted.probes:
            asked = [order.alike for order in orders if any(each is one for each in order.probes)]
            nowhere += not asked
            result, failing = observed(one, asked, asking.seen.get((one.set.key, one.number), {}))
            results.append(result)
            behind.add(result, failing)
        ended = run.model_copy(
            update={
                "state": "done",
                "devices": len(asking.orders),
                "answered": len(asking.answered),
                "failed": sum(bool(result.failed) for result in results),
                "nowhere": nowhere,
                "disagreements": sum(result.disagreeing for result in results),
                "results": tuple(results),
                "seconds": round(time.perf_counter() - asking.began, 3),
            }
        )
        self._runs.end(ended, behind)


def _nothing(_attempt: Attempt, _expected: Verdict) -> WhyAsked:
    raise AssertionError("not asked for")


def _pictured(
    order: _Order, found: Mapping[tuple[str, int], Observation], pictures: Mapping[int, bytes]
) -> Iterator[tuple[Observation, bytes]]:
    """The pictures that came along, each with what was seen."""
    for number, png in pictures.items():
        if number <= len(order.probes):
            one = order.probes[number - 1]
            yield found[one.set.key, one.number], png


def _png(seen: Seen) -> bytes | None:
    """The picture that came along, where it is one."""
    if seen.picture is None:
        return None
    try:
        found = base64.b64decode(seen.picture, validate=True)
    except binascii.Error:
        return None
    return found if found.startswith(_PNG) and len(found) <= MOST_PICTURE else None
