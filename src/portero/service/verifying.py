"""Runs: probe sets tried over the fleet, followed while they are under way, and kept."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor

import structlog
import zstandard

from portero.core.insight.predicting import Tried, numbered, predict, reached
from portero.core.insight.quick_words import Known, QuickWordProblem, target_of
from portero.core.nouns.assignment import State, Target
from portero.core.nouns.base import unknown_word
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import DeviceName, RuleAt
from portero.core.nouns.page import Page
from portero.core.nouns.probe_set import ProbeSet
from portero.core.nouns.run import NewRun, Run, RunSummary
from portero.core.sentences import runs as words
from portero.core.wording import as_sentence
from portero.service.estate import EstateKeeper
from portero.service.live import Live
from portero.service.problems import Refusal, field_error
from portero.service.standings import Standings
from portero.store import runs
from portero.store.database import Store
from portero.store.moments import moment

MOST_WAITING = 5
"""So many runs may wait for others to end."""
MOST_PROBES = 20_000
"""So many probes are tried in a run."""
TOLD_SECONDS = 0.5
"""So often it is told how far a run is."""
_log = structlog.get_logger("portero.verifying")


class _Interrupted(Exception):
    """The service is being stopped."""


class Verifying:
    """Carries runs out, one at a time, and keeps what came of them."""

    def __init__(
        self,
        store: Store,
        estate: EstateKeeper,
        standings: Standings,
        known: Callable[[Estate], Known],
        live: Live,
        clock: Callable[[], float],
    ) -> None:
        self._store, self._estate, self._standings, self._known = store, estate, standings, known
        self._live, self._now = live, clock
        self._worker = ThreadPoolExecutor(max_workers=1, thread_name_prefix="run")
        self._lock = threading.Lock()
        self._closing = False
        self._open: dict[int, Run] = {}
        """Those under way, as far as they are."""
        self._ended: dict[int, threading.Event] = {}
        with store.writing() as connection:
            runs.end_interrupted(connection, words.INTERRUPTED)

    def start(self, new: NewRun, by: str) -> Run:
        """Begin a run; what has come of it is told by `get`. Refusal where it names what there is not."""
        snapshot = self._estate.snapshot
        sets, on = self._sets_of(new, snapshot.estate), self._targets_of(new, snapshot.estate)
        number = sum(len(one.probes) for one in sets)
        if number > MOST_PROBES:
            raise Refusal("invalid", f"These sets have {number:,} probes; a run tries {MOST_PROBES:,} at the most.")
        run = Run(
            id=0,
            state="running",
            at=moment(self._now()),
            by=by,
            revision=snapshot.revision,
            sets=tuple(one.key for one in sets),
            on=on,
            probes=number,
            done=0.0,
        )
        with self._lock:
            if len(self._open) >= MOST_WAITING:
                raise Refusal("unavailable", f"{len(self._open)} runs are under way; wait for one of them to end.")
            with self._store.writing() as connection:
                run = run.model_copy(update={"id": runs.add_run(connection, run)})
            self._open[run.id], self._ended[run.id] = run, threading.Event()
        self._worker.submit(self._carry_out, run, sets, snapshot.estate)
        return run

    def wait(self, id: int, seconds: float) -> Run:
        """The run once it has ended, or as far as it is after so long. Refusal."""
        ended = self._ended.get(id)
        if ended is not None:
            ended.wait(seconds)
        return self.get(id)

    def get(self, id: int) -> Run:
        """One run. Refusal."""
        if (open_one := self._open.get(id)) is not None:
            return open_one
        with self._store.reading() as connection:
            found = runs.get_run(connection, id)
        if found is None:
            raise Refusal("not-found", f"There is no run {id} (any more).")
        return found

    def page(self, cursor: str | None, limit: int) -> Page[RunSummary]:
        """A page of runs, the newest first."""
        with self._store.reading() as connection:
            found = runs.list_runs(connection, cursor, limit)
        items = [runs.summary_of(self._open[one.id]) if one.id in self._open else one for one in found.items]
        return found.model_copy(update={"items": items})

    def devices(self, id: int, set: str, number: int, code: str) -> list[DeviceName]:
        """The machines on which a probe did not come out for a cause. Refusal where they are not kept (any more)."""
        self.get(id)
        with self._store.reading() as connection:
            packed = runs.devices_of(connection, id)
        if packed is None:
            raise Refusal("not-found", f"The machines of run {id} are not kept any more; run it again.")
        kept = json.loads(zstandard.decompress(packed))
        places = kept["failing"].get(f"{set}/{number}/{code}", [])
        named = [kept["devices"][place] for first, many in places for place in range(first, first + many)]
        return sorted((DeviceName(id=own, hostname=name) for own, name in named), key=lambda one: one.hostname)

    def unprobed(self, days: int) -> tuple[int, list[RuleAt]]:
        """How many rules in force somebody has written, and those that have settled no probe for so many days."""
        estate = self._estate.snapshot.estate
        with self._store.reading() as connection:
            probed = runs.probed_since(connection, self._now() - days * 86_400.0)
        in_force = dict.fromkeys(one.ruleset for one in estate.assignments if one.state is State.ACTIVE)
        written = [
            RuleAt(ruleset=key, rule=number, selector=str(rule.selector))
            for key in in_force
            if estate.ruleset_by_key[key].feed is None
            for number, rule in enumerate(estate.ruleset_by_key[key].rules, start=1)
        ]
        return len(written), [one for one in written if (one.ruleset, one.selector) not in probed]

    def close(self) -> None:
        """Break off what is under way; nothing more is begun."""
        self._closing = True
        self._worker.shutdown(cancel_futures=True)

    # --- under way ---

    def _carry_out(self, run: Run, sets: Sequence[ProbeSet], estate: Estate) -> None:
        began = time.perf_counter()
        try:
            ended, devices = self._predicted(run, sets, estate, began)
        except Exception as problem:
            told = str(problem)
            if not isinstance(problem, _Interrupted):
                _log.exception("run_failed", run=run.id)
                told = f"The run could not be carried out: {problem}"
            ended, devices = run.model_copy(update={"state": "failed", "problem": told, "done": 1.0}), None
        ended = ended.model_copy(update={"sentence": words.run(ended)})
        try:
            with self._store.writing() as connection:
                runs.write_run(connection, ended, devices)
                probed = {(rule.ruleset, rule.selector) for one in ended.results for rule in one.decided_by}
                runs.note_probed(connection, probed, ended.at.timestamp())
        finally:
            del self._open[run.id]
            self._ended.pop(run.id).set()
            self._live.tell("run")

    def _predicted(self, run: Run, sets: Sequence[ProbeSet], estate: Estate, began: float) -> tuple[Run, bytes]:
        standings = self._standings.alike(estate, [probe for one in sets for probe in one.probes])
        devices = [device for standing in standings for device in standing.devices]
        places = {device.id: place for place, device in enumerate(devices)}
        probes, failing, results = numbered(sets), dict[str, list[list[int]]](), []
        told_at = began
        for tried in predict(probes, standings, run.on):
            if self._closing:
                raise _Interrupted(words.INTERRUPTED)
            results.append(tried.result)
            _add_ranges(failing, tried, places)
            if time.perf_counter() - told_at > TOLD_SECONDS:
                told_at = time.perf_counter()
                self._open[run.id] = run.model_copy(update={"done": len(results) / len(probes)})
                self._live.tell("run")
        ended = run.model_copy(
            update={
                "state": "done",
                "done": 1.0,
                "devices": reached(probes, standings, run.on),
                "probes": len(probes),
                "failed": sum(bool(result.failed) for result in results),
                "nowhere": sum(not result.devices for result in results),
                "results": tuple(results),
                "seconds": round(time.perf_counter() - began, 3),
            }
        )
        kept = {"devices": [(device.id, device.hostname) for device in devices], "failing": failing}
        return ended, zstandard.compress(json.dumps(kept).encode())

    # --- what is asked for ---

    def _sets_of(self, new: NewRun, estate: Estate) -> list[ProbeSet]:
        known = {one.key: one for one in estate.probe_sets}
        for place, key in enumerate(new.sets):
            if key not in known:
                said = unknown_word("probe set", key, known)
                raise Refusal("invalid", as_sentence(said), errors=[field_error(["sets", place], said)])
        return [known[key] for key in new.sets] if new.sets else list(known.values())

    def _targets_of(self, new: NewRun, estate: Estate) -> tuple[Target, ...]:
        try:
            return tuple(target_of(word, self._known(estate)) for word in new.on)
        except QuickWordProblem as problem:
            raise Refusal("invalid", str(problem)) from problem


def _add_ranges(failing: dict[str, list[list[int]]], tried: Tried, places: dict[str, int]) -> None:
    """The places of machines on which a probe did not come out, cause by cause, as first and how many."""
    for one in tried.failing:
        ranges = failing.setdefault(f"{tried.result.set}/{tried.result.number}/{one.cause.code}", [])
        for place in sorted(places[device.id] for device in one.devices):
            if ranges and ranges[-1][0] + ranges[-1][1] == place:
                ranges[-1][1] += 1
            else:
                ranges.append([place, 1])
