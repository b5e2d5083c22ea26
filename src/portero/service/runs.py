"""Runs that are kept and those under way, predicted and observed ones; what they are asked to try, and where."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterable, Sequence
from typing import Any, NamedTuple

import zstandard

from portero.core.insight.predicting import Failing, Numbered, numbered
from portero.core.insight.quick_words import Known, QuickWordProblem, target_of
from portero.core.nouns.assignment import State, Target
from portero.core.nouns.base import unknown_word
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import DeviceName, RuleAt
from portero.core.nouns.page import Page
from portero.core.nouns.probe_set import Probe, ProbeSet
from portero.core.nouns.run import NewRun, ProbeResult, Run, RunSummary
from portero.core.sentences import runs as words
from portero.core.wording import as_sentence
from portero.service.estate import EstateKeeper
from portero.service.live import Live
from portero.service.problems import Refusal, field_error
from portero.store import runs
from portero.store.database import Store
from portero.store.moments import moment

MOST_WAITING = 5
"""So many runs may be under way, or wait for others to end."""
MOST_PROBES = 20_000
"""So many probes are tried in a run."""


TYPED_IN = "typed-in"
"""The set of what is tried and not kept."""


class WantedRun(NamedTuple):
    """What a run is to try, in which state of the estate, and where alone."""

    run: Run
    estate: Estate
    probes: list[Numbered]


class Runs:
    """Keeps runs, and follows those that are under way. Safe to use from several threads."""

    def __init__(
        self,
        store: Store,
        estate: EstateKeeper,
        known: Callable[[Estate], Known],
        live: Live,
        clock: Callable[[], float],
    ) -> None:
        self._store, self._estate, self._known, self._live, self._now = store, estate, known, live, clock
        self._lock = threading.Lock()
        self._open: dict[int, Run] = {}
        """Those under way, as far as they are."""
        self._ended: dict[int, threading.Event] = {}
        with store.writing() as connection:
            runs.end_interrupted(connection, words.INTERRUPTED)

    # --- under way ---

    def wanted(self, new: NewRun, by: str) -> WantedRun:
        """What a run would try. Refusal where it names what there is not, or too much."""
        snapshot = self._estate.snapshot
        on = self._targets_of(new, snapshot.estate)
        sets = [_typed_in(new, on)] if new.visit is not None else self._sets_of(new, snapshot.estate)
        probes = numbered(sets)
        if len(probes) > MOST_PROBES:
            raise Refusal("invalid", f"These are {len(probes):,} probes; a run tries {MOST_PROBES:,} at the most.")
        run = Run(
            id=0,
            kind=new.kind,
            state="running",
            at=moment(self._now()),
            by=by,
            revision=snapshot.revision,
            sets=tuple(one.key for one in sets),
            on=on,
            probes=len(probes),
            done=0.0,
        )
        return WantedRun(run, snapshot.estate, probes)

    def begun(self, wanted: WantedRun) -> WantedRun:
        """The same, under way, with its number. Refusal where too many are."""
        with self._lock:
            if len(self._open) >= MOST_WAITING:
                raise Refusal("unavailable", f"{len(self._open)} runs are under way; wait for one of them to end.")
            with self._store.writing() as connection:
                run = wanted.run.model_copy(update={"id": runs.add_run(connection, wanted.run)})
            self._open[run.id], self._ended[run.id] = run, threading.Event()
        return wanted._replace(run=run)

    def note(self, run: Run) -> None:
        """A run is so far; nothing where it has ended meanwhile."""
        with self._lock:
            if run.id not in self._open:
                return
            self._open[run.id] = run
        self._live.tell("run")

    def end(self, run: Run, behind: Behind | None) -> None:
        """A run has ended, with the machines behind its causes; the rules that settled its probes are met by them."""
        ended = run.model_copy(update={"done": 1.0})
        ended = ended.model_copy(update={"sentence": words.run(ended)})
        try:
            with self._store.writing() as connection:
                runs.write_run(connection, ended, behind.packed() if behind is not None else None)
                rules = {(rule.ruleset, rule.selector) for one in ended.results for rule in one.decided_by}
                runs.note_probed(connection, rules, ended.at.timestamp())
        finally:
            with self._lock:
                del self._open[run.id]
            self._ended.pop(run.id).set()
            self._live.tell("run")

    def fail(self, run: Run, problem: str) -> None:
        """A run could not be carried out."""
        self.end(run.model_copy(update={"state": "failed", "problem": problem}), None)

    # --- kept ---

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
        kept = self._kept_devices(id)
        places = kept["failing"].get(f"{set}/{number}/{code}", [])
        named = [kept["devices"][place] for first, many in places for place in range(first, first + many)]
        return sorted((DeviceName(id=own, hostname=name) for own, name in named), key=lambda one: one.hostname)

    def all_devices(self, id: int) -> list[DeviceName]:
        """All machines of a run. Refusal where they are not kept (any more)."""
        return [DeviceName(id=own, hostname=name) for own, name in self._kept_devices(id)["devices"]]

    def _kept_devices(self, id: int) -> dict[str, Any]:
        self.get(id)
        with self._store.reading() as connection:
            packed = runs.devices_of(connection, id)
        if packed is None:
            raise Refusal("not-found", f"The machines of run {id} are not kept any more; run it again.")
        kept: dict[str, Any] = json.loads(zstandard.decompress(packed))
        return kept

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


def _typed_in(new: NewRun, on: Sequence[Target]) -> ProbeSet:
    """The set of an address that somebody has typed in."""
    probe = Probe(
        visit=new.visit,
        expect=new.expect,
        browser=new.browser,
        window=new.window,
        reached_by=new.reached_by,
    )
    return ProbeSet(key=TYPED_IN, to=tuple(on), probes=(probe,))


class Behind:
    """The machines behind each cause of each probe, kept as places among all of them."""

    def __init__(self, devices: Sequence[DeviceName]) -> None:
        self._devices = devices
        self._places = {device.id: place for place, device in enumerate(devices)}
        self._failing: dict[str, list[list[int]]] = {}

    def add(self, result: ProbeResult, failing: Iterable[Failing]) -> None:
        """Those on which a probe did not come out, cause by cause: as first place and how many."""
        for one in failing:
            ranges = self._failing.setdefault(f"{result.set}/{result.number}/{one.cause.code}", [])
            for place in sorted(self._places[device.id] for device in one.devices):
                if ranges and ranges[-1][0] + ranges[-1][1] == place:
                    ranges[-1][1] += 1
                else:
                    ranges.append([place, 1])

    def packed(self) -> bytes:
        """All of it, as it is kept."""
        kept = {"devices": [(device.id, device.hostname) for device in self._devices], "failing": self._failing}
        return zstandard.compress(json.dumps(kept).encode())
