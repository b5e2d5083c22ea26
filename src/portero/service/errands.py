"""What single machines are asked to do now, and what they tell. In memory only: whoever asked is waiting for it."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from uuid import uuid4

from portero.core.nouns.device import Device
from portero.core.nouns.errand import Errand, ErrandAnswer, ErrandState, NewErrand
from portero.service.live import Live
from portero.service.problems import Refusal
from portero.store.moments import moment

GIVEN_UP, KEPT = 120.0, 900.0
"""Seconds after which an errand is given up, and forgotten."""
MOST, MOST_OF_DEVICE = 500, 5
"""So many errands are kept, and so many may be open for one machine."""
_NO_ANSWER = "The machine did not answer in time: it is off, busy, or has no browser to try with."


@dataclass
class _Open:
    """An errand as it is kept."""

    id: str
    device: Device
    asked: NewErrand
    by: str
    at: float
    told: bool = False
    """The device knows that there is one."""
    taken: bool = False
    answer: ErrandAnswer | None = field(default=None)

    def state(self, now: float) -> ErrandState:
        """How far it is."""
        if self.answer is not None:
            return ErrandState.FAILED if self.answer.page is None else ErrandState.ANSWERED
        if now - self.at > GIVEN_UP:
            return ErrandState.FAILED
        return ErrandState.TAKEN if self.taken else ErrandState.WAITING

    def is_open(self, now: float) -> bool:
        """Whether an answer to it is still waited for."""
        return self.state(now) in (ErrandState.WAITING, ErrandState.TAKEN)


class Errands:
    """Asks machines, and keeps what they answer for a while. Safe to use from several threads."""

    def __init__(self, live: Live, clock: Callable[[], float]) -> None:
        self._live, self._now = live, clock
        self._lock = threading.Lock()
        self._errands: dict[str, _Open] = {}

    def ask(self, device: Device, asked: NewErrand, by: str) -> Errand:
        """Have a machine do something now. Refusal where it, or everybody, has enough to do."""
        now = self._now()
        with self._lock:
            for old in [one.id for one in self._errands.values() if now - one.at > KEPT]:
                del self._errands[old]
            mine = sum(one.device.id == device.id and one.is_open(now) for one in self._errands.values())
            if mine >= MOST_OF_DEVICE:
                raise Refusal("invalid", f"{device.hostname} has {mine} errands to do already; wait for those.")
            if len(self._errands) >= MOST:
                raise Refusal("invalid", "There are too many errands just now; ask again in some minutes.")
            made = _Open(uuid4().hex[:12], device, asked, by, now)
            self._errands[made.id] = made
        self._live.wake_devices([device.id])
        return self._told(made)

    def get(self, id: str) -> Errand:
        """An errand as far as it is. Refusal."""
        with self._lock:
            found = self._errands.get(id)
        if found is None:
            raise Refusal("not-found", f"There is no errand “{id[:40]}” (any more).")
        return self._told(found)

    def _told(self, one: _Open) -> Errand:
        answer, state = one.answer, one.state(self._now())
        late = _NO_ANSWER if state is ErrandState.FAILED and answer is None else None
        return Errand(
            **dict(one.asked),
            id=one.id,
            device=one.device.id,
            hostname=one.device.hostname,
            by=one.by,
            at=moment(one.at),
            until=moment(one.at + GIVEN_UP),
            state=state,
            page=answer.page if answer else None,
            problem=answer.problem if answer else late,
        )

    # --- what devices say ---

    def awaits(self, device: str, again: bool = False) -> bool:
        """Whether the device has something to do of which it was not told yet, or (`again`) that it has not taken yet.
        From now on it has been told.
        """
        if not self._errands:
            # most of the time there is none, and devices wait for nobody
            return False
        with self._lock:
            mine = [one for one in self._of(device) if not one.taken and (again or not one.told)]
            for one in mine:
                one.told = True
        return bool(mine)

    def take(self, device: str) -> list[_Open]:
        """What the device is to do."""
        with self._lock:
            mine = [one for one in self._of(device) if not one.taken]
            for one in mine:
                one.told = one.taken = True
        return mine

    def answered(self, device: str, id: str, answer: ErrandAnswer) -> None:
        """The device tells what came of an errand. Refusal where it has none of that id that is open."""
        with self._lock:
            found = next((one for one in self._of(device) if one.id == id), None)
            if found is None:
                raise Refusal("not-found", "This device has no such errand (any more).")
            found.answer = answer
        self._live.tell("errand")

    def _of(self, device: str) -> list[_Open]:
        now = self._now()
        return [one for one in self._errands.values() if one.device.id == device and one.is_open(now)]
