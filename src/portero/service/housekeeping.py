"""What is too old goes, a little at a time; who changes something waits for it no longer than for a change."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import structlog

from portero.service.bundles import Bundles
from portero.service.state import Current
from portero.store import observations, pruning, starts
from portero.store.database import Store

DAY = 86_400.0
PICTURE_DAYS = 30
"""So long pictures of what machines saw are kept."""
BUSY_SECONDS = 0.5
"""So long at a time it works on what is old."""
COLLECT_SECONDS = 3_600.0
GRACE = DAY
"""What was compiled so lately may be on its way to a device."""

_log = structlog.get_logger("portero.housekeeping")


class Housekeeper:
    """Drops what the settings no longer let be kept, and what was compiled and no device holds."""

    def __init__(self, store: Store, current: Current, bundles: Bundles, clock: Callable[[], float]) -> None:
        self._store, self._current, self._bundles, self._now = store, current, bundles, clock
        self._walked: dict[str, tuple[Any, ...] | None] = {}
        self._collected = 0.0

    def let_time_pass(self) -> None:
        """A little of what there is to do."""
        self._prune()
        if self._now() - self._collected >= COLLECT_SECONDS:
            self._collected = self._now()
            self.collect()
            with self._store.writing() as connection:
                activity_days = self._current.snapshot.estate.settings.activity_days
                pruning.prune_days(connection, self._now() - activity_days * DAY)
                observations.drop_pictures(connection, self._now() - PICTURE_DAYS * DAY)
                starts.recount(connection, starts.since(self._now()))

    def _prune(self) -> None:
        settings, now = self._current.snapshot.estate.settings, self._now()
        until = time.monotonic() + BUSY_SECONDS
        while time.monotonic() < until:
            with self._store.writing() as connection:
                if not pruning.prune_activity(connection, now - settings.activity_days * DAY):
                    break
        kept = [*((walk, settings.visit_days) for walk in pruning.VISITS), (pruning.FACTS, settings.facts_days)]
        for walk, days in kept:
            with self._store.writing() as connection:
                after = self._walked.get(walk.table)
                self._walked[walk.table] = pruning.prune_walking(connection, walk, after, now - days * DAY)

    def collect(self) -> None:
        """Drop bundles and overlays that nobody holds, and parts that none names any more."""
        before = self._now() - GRACE
        with self._store.writing() as connection:
            gone = pruning.collect_compiled(connection, before)
        # a change that is being reckoned may count on a part that goes: it is reckoned again
        with self._current.alone():
            self._current.stir()
            with self._store.writing() as connection:
                named = {part for digest in pruning.compiled(connection) for part in self._bundles.parts_of(digest)}
                parts = pruning.collect_parts(connection, named, before)
        if gone or parts:
            _log.info("collected", bundles=gone, parts=parts)
