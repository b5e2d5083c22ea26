"""Probe sets that are run by themselves, as their rules say."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from zoneinfo import ZoneInfo

import structlog

from portero.core.nouns.probe_set import ProbeSet
from portero.core.nouns.run import NewRun
from portero.service.estate import BY_ITSELF, EstateKeeper
from portero.service.observing import Observing
from portero.service.problems import Refusal
from portero.service.verifying import Verifying
from portero.store.moments import moment

_log = structlog.get_logger("portero.repeating")


class Repeating:
    """Begins the runs that are due. What was due while the service was away is left out."""

    def __init__(
        self, estate: EstateKeeper, verifying: Verifying, observing: Observing, clock: Callable[[], float]
    ) -> None:
        self._estate, self._verifying, self._observing, self._now = estate, verifying, observing, clock
        self._due: dict[str, tuple[ProbeSet, str, datetime | None]] = {}
        """When each set is due next, by its key; as the set and the clock of the settings were."""

    def let_time_pass(self) -> None:
        """Begin those that are due."""
        estate, now = self._estate.snapshot.estate, moment(self._now())
        zone, left = estate.settings.zone, {}
        for one in estate.probe_sets:
            if one.every is None:
                continue
            known = self._due.get(one.key)
            if known is None or known[:2] != (one, zone):
                known = (one, zone, one.next_run(now, ZoneInfo(zone)))
            elif known[2] is not None and known[2] <= now:
                self._begin(one)
                known = (one, zone, one.next_run(now, ZoneInfo(zone)))
            left[one.key] = known
        self._due = left

    def _begin(self, one: ProbeSet) -> None:
        new = NewRun(sets=(one.key,), kind=one.every_kind or "predicted")
        keeper = self._observing if new.kind == "observed" else self._verifying
        try:
            keeper.start(new, BY_ITSELF)
        except Refusal as refused:
            _log.warning("not_run", set=one.key, problem=refused.detail)
