"""What devices say, noted several at a time: each commit waits for the disk, however much it holds."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any, NamedTuple, TypeVar

from anyio import to_thread

from portero.service.fleet import FleetKeeper
from portero.service.last_heard import Heard
from portero.service.roster import Assessment
from portero.store import devices, overlays
from portero.store.devices import Applied

Told = TypeVar("Told")
MOST_TOGETHER, MOST_APPLIED = 64, 1_000
"""So many are noted in one transaction, each by itself; and with those that are noted in one go. Who changes the estate
waits for it.
"""


class _Waiting(NamedTuple):
    note: Callable[[Assessment], Any] | Applied
    told: asyncio.Future[Any]


class Noting:
    """Whoever comes while others are being noted goes with the next ones. Used from one event loop."""

    def __init__(self, fleet: FleetKeeper, heard: Heard, clock: Callable[[], float]) -> None:
        self._fleet, self._heard, self._now = fleet, heard, clock
        self._waiting: list[_Waiting] = []
        self._turn = asyncio.Lock()
        self._working: asyncio.Task[None] | None = None

    async def note(self, note: Callable[[Assessment], Told]) -> Told:
        """Note something within a transaction; what came of it, once that is committed. What it raises undoes what it
        has done, and nothing of others.
        """
        told: Told = await self._noted(note)
        return told

    async def note_applied(self, applied: Applied) -> None:
        """Note that a device has applied something; once that is committed."""
        await self._noted(applied)

    async def in_turn(self, call: Callable[[], Told]) -> Told:
        """Run what looks and writes by itself in a thread, one after the other: many at once only wait for each
        other.
        """
        async with self._turn:
            return await to_thread.run_sync(call)

    async def _noted(self, note: Callable[[Assessment], Any] | Applied) -> Any:
        told: asyncio.Future[Any] = asyncio.get_running_loop().create_future()
        self._waiting.append(_Waiting(note, told))
        if self._working is None:
            self._working = asyncio.create_task(self._work())
        return await told

    async def _work(self) -> None:
        try:
            while self._waiting:
                together, self._waiting = _some_of(self._waiting)
                try:
                    came = await to_thread.run_sync(self._note_all, [one.note for one in together])
                except Exception as problem:
                    came = [problem] * len(together)
                for one, found in zip(together, came, strict=True):
                    _tell(one.told, found)
        finally:
            self._working = None

    def _note_all(self, notes: list[Callable[[Assessment], Any] | Applied]) -> list[Any]:
        """What came of each: an exception, where it raised one."""
        came: list[Any] = []
        # of one device the last word counts
        applied = {note.device: note for note in notes if isinstance(note, Applied)}
        with self._fleet.assessing() as assessment:
            if applied:
                self._heard.written_with(applied)
                devices.note_all_applied(assessment.connection, list(applied.values()), self._now())
                overlays.forget_until_restart(assessment.connection, applied)
            for note in notes:
                came.append(None if isinstance(note, Applied) else _outcome(note, assessment))
        return came


def _some_of(waiting: list[_Waiting]) -> tuple[list[_Waiting], list[_Waiting]]:
    """Those that go together now, and the others: of those that are noted in one go a great many."""
    some, others, single = list[_Waiting](), list[_Waiting](), 0
    for one in waiting:
        is_applied = isinstance(one.note, Applied)
        taken = len(some) < MOST_APPLIED and (is_applied or single < MOST_TOGETHER)
        (some if taken else others).append(one)
        single += taken and not is_applied
    return some, others


def _outcome(note: Callable[[Assessment], Any], assessment: Assessment) -> Any:
    try:
        with assessment.apart():
            return note(assessment)
    except Exception as problem:
        return problem


def _tell(told: asyncio.Future[Any], found: Any) -> None:
    # who asked may have hung up
    if told.done():
        return
    if isinstance(found, Exception):
        told.set_exception(found)
    else:
        told.set_result(found)
