"""What devices say, noted several at a time: each commit waits for the disk, however much it holds."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any, NamedTuple, TypeVar

from anyio import to_thread

from portero.service.fleet import FleetKeeper
from portero.service.roster import Assessment

Told = TypeVar("Told")
MOST_TOGETHER = 64
"""So many are noted in one transaction: who changes the estate waits for it."""


class _Waiting(NamedTuple):
    note: Callable[[Assessment], Any]
    told: asyncio.Future[Any]


class Noting:
    """Whoever comes while others are being noted goes with the next ones. Used from one event loop."""

    def __init__(self, fleet: FleetKeeper) -> None:
        self._fleet = fleet
        self._waiting: list[_Waiting] = []
        self._working: asyncio.Task[None] | None = None

    async def note(self, note: Callable[[Assessment], Told]) -> Told:
        """Note something within a transaction; what came of it, once that is committed. What it raises undoes what it
        has done, and nothing of others.
        """
        told: asyncio.Future[Told] = asyncio.get_running_loop().create_future()
        self._waiting.append(_Waiting(note, told))
        if self._working is None:
            self._working = asyncio.create_task(self._work())
        return await told

    async def _work(self) -> None:
        try:
            while self._waiting:
                together, self._waiting = self._waiting[:MOST_TOGETHER], self._waiting[MOST_TOGETHER:]
                try:
                    came = await to_thread.run_sync(self._note_all, [one.note for one in together])
                except Exception as problem:
                    came = [problem] * len(together)
                for one, found in zip(together, came, strict=True):
                    _tell(one.told, found)
        finally:
            self._working = None

    def _note_all(self, notes: list[Callable[[Assessment], Any]]) -> list[Any]:
        """What came of each: an exception, where it raised one."""
        came: list[Any] = []
        with self._fleet.assessing() as assessment:
            for note in notes:
                try:
                    with assessment.apart():
                        came.append(note(assessment))
                except Exception as problem:
                    came.append(problem)
        return came


def _tell(told: asyncio.Future[Any], found: Any) -> None:
    # who asked may have hung up
    if told.done():
        return
    if isinstance(found, Exception):
        told.set_exception(found)
    else:
        told.set_result(found)
