"""The estate: changed, previewed, and looked at as it was."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple, Protocol

from portero.core import sentences, wording
from portero.core.insight.brought_rules import emptied, filled
from portero.core.insight.differences import differences
from portero.core.insight.newcomers import newcomers, with_known_members, with_newcomers
from portero.core.insight.offline import with_frozen_members
from portero.core.insight.revisions import undone
from portero.core.insight.watching import found_in_folders, with_found
from portero.core.matching.applications import CannotFreeze
from portero.core.matching.fleet import Regrouping
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.estate import Estate
from portero.core.nouns.preview import Preview
from portero.core.nouns.probe_set import ProbeSet
from portero.core.nouns.revision import Change
from portero.core.nouns.rule import Rule
from portero.service.feeds.holdings import Holdings
from portero.service.foresight import Foresight
from portero.service.live import Live, Subject
from portero.service.planning import Planner
from portero.service.problems import Refusal
from portero.service.refusals import (
    refuse_faults,
    refuse_new_faults,
    refuse_other_kinds,
    refuse_overload,
    refuse_ungated,
    refuse_unproved,
)
from portero.service.roster import Roster
from portero.service.state import Current, EstateTransition, Snapshot, changed_versions
from portero.store import access, catalogue, epochs, revisions
from portero.store.database import Store
from portero.store.feeds import IndexRecord
from portero.store.moments import moment
from portero.store.plans import GenerationInForce, Plan, write_plan

Edit = Callable[[Snapshot], Estate]
"""Takes what counts; gives the estate as it should be. May raise Refusal."""
Brought = Mapping[str, tuple[Rule, ...]]
"""The rules that a generation of a feed brings, by the kind of ruleset that they belong in."""


class Carried(Protocol):
    """The probes that a change carries, which are to prove it."""

    def sets(self, after: Estate) -> Sequence[ProbeSet]:
        """The probes, under the estate as it will be. Refusal."""

    def begin(self, after: Snapshot) -> Callable[[sqlite3.Connection], None]:
        """What is written with the change: what its probes come to before it."""


BY_ITSELF = "the service"
"""Who makes a change that nobody asked for."""


class Once(NamedTuple):
    """An Idempotency-Key, with a fingerprint of the request that came with it."""

    key: str
    fingerprint: str


class Done(NamedTuple):
    """A change that was made: what counts since, what is answered to whoever sends it again, and the revision that it
    made, if any.
    """

    snapshot: Snapshot
    told: str = ""
    made: int | None = None


@dataclass(frozen=True)
class _Reckoned:
    """What a change comes to, before it is written; without a plan it comes to nothing."""

    done: Done
    plan: Plan | None = None
    regrouping: Regrouping | None = None
    recalled: bool = False
    beside: Callable[[sqlite3.Connection], None] | None = None
    """Writes what goes with it."""


class EstateKeeper:
    """Changes the estate. All of a change is committed, with its revision and its bundles, or nothing. Safe to use from
    several threads.
    """

    def __init__(
        self,
        store: Store,
        current: Current,
        planner: Planner,
        roster: Roster,
        holdings: Holdings,
        foresight: Foresight,
        live: Live,
        clock: Callable[[], float],
    ) -> None:
        self._store, self._current, self._planner, self._roster = store, current, planner, roster
        self._holdings, self._foresight, self._live, self._now = holdings, foresight, live, clock
        self._looked_at: tuple[int, int] | None = None
        self._watched_at: tuple[int, int] | None = None

    @property
    def snapshot(self) -> Snapshot:
        """What counts now. Take it once for all that belongs together."""
        return self._current.snapshot

    def at(self, number: int) -> Estate:
        """The estate as it was at a revision. Refusal where there is no such revision."""
        snapshot = self.snapshot
        if not 0 <= number <= snapshot.revision:
            raise Refusal("not-found", f"There is no revision {number}; the newest is {snapshot.revision}.")
        with self._store.reading() as connection:
            steps = list(revisions.steps_back(connection, snapshot.revision, number))
        return filled(undone(snapshot.authored, steps), snapshot.contents) if steps else snapshot.estate

    # --- changing ---

    def change(
        self,
        edit: Edit,
        *,
        by: str,
        reason: str | None = None,
        once: Once | None = None,
        answer: Callable[[Estate], str] = lambda _estate: "",
        passes_gate: bool = True,
        carried: Carried | None = None,
    ) -> Done:
        """Make a change. Refusal where the edit does not fit, does not lead to what probes expect that it carries, or
        fails a probe of the gate, which may be passed by; the same Idempotency-Key is answered as before.
        """

        def reckon() -> _Reckoned:
            before = self.snapshot
            if (told := self._recalled(by, once)) is not None:
                return _Reckoned(Done(before, told), recalled=True)
            after, changes = self._edited(edit, before)
            if not changes:
                return _Reckoned(Done(before, answer(before.estate)))
            if passes_gate:
                refuse_ungated(self._foresight.gate(before.estate, after.estate))
            beside = None
            if carried is not None:
                sets = carried.sets(after.estate)
                refuse_unproved(self._foresight.forecasts(before.estate, after.estate, sets))
                beside = carried.begin(after)
            going = EstateTransition(before, after, changes, self._now())
            with self._store.reading() as connection:
                plan, regrouping = self._planner.plan(connection, going, by, reason)
            return _Reckoned(Done(after, answer(after.estate), after.revision), plan, regrouping, beside=beside)

        def remember(connection: sqlite3.Connection, told: str) -> None:
            if once is not None:
                access.keep_answer(connection, by, once.key, once.fingerprint, told, self._now())

        return self._carry_out(reckon, ("revision", "device"), remember if once is not None else None)

    def preview(self, edit: Edit, carried: Carried | None = None) -> Preview:
        """What a change would do. Nothing is kept and nobody waits. Refusal where the edit does not fit."""
        before = self.snapshot
        after, _ = self._edited(edit, before)
        sets = carried.sets(after.estate) if carried is not None else ()
        return self._foresight.preview(before.estate, after.estate, before.revision, sets)

    def _recalled(self, by: str, once: Once | None) -> str | None:
        """What was answered before to the same Idempotency-Key. Refusal where that came with another request."""
        if once is None:
            return None
        with self._store.reading() as connection:
            kept = access.recall_answer(connection, by, once.key)
        if kept is not None and kept[0] != once.fingerprint:
            raise Refusal("invalid", "This Idempotency-Key was used for another request; take a new one.")
        return kept[1] if kept is not None else None

    def _edited(self, edit: Edit, before: Snapshot) -> tuple[Snapshot, tuple[Change, ...]]:
        """What is to count as the edit makes it, with what feeds bring; and what is authored of the difference.
        Refusal.
        """
        estate = edit(before)
        left = {feed.key for feed in estate.feeds}
        kept = {key: content for key, content in before.contents.items() if key in left}
        estate = filled(estate, kept, before.contents.keys() - left)
        refuse_new_faults(before.estate, estate)
        if any(one.hold_back for one in estate.assignments):
            programs, purposes = self._foresight.installed(), self._roster.catalogue
            estate = with_known_members(before.estate, estate, programs, purposes)
        refuse_other_kinds(before.estate, estate)
        refuse_overload(before.estate, estate, self._roster)
        changes = tuple(differences(before.authored, emptied(estate, before.contents)))
        revision = before.revision + 1
        generations = tuple(generation for generation in before.naming.generations if generation[0] in left)
        after = Snapshot(
            estate,
            revision,
            changed_versions(before.versions, changes, revision),
            kept,
            replace(before.naming, generations=generations),
        )
        return after, changes

    def _carry_out(
        self,
        reckon: Callable[[], _Reckoned],
        subjects: Sequence[Subject],
        remember: Callable[[sqlite3.Connection, str], None] | None = None,
    ) -> Done:
        """Reckon, write, let it count, then tell who waits for it."""

        def write(reckoned: _Reckoned) -> None:
            plan, done = reckoned.plan, reckoned.done
            if reckoned.recalled or (plan is None and remember is None):
                return
            with self._store.writing() as connection:
                if plan is not None:
                    write_plan(connection, plan)
                if reckoned.beside is not None:
                    reckoned.beside(connection)
                if remember is not None:
                    remember(connection, done.told)
            # only what is committed is seen
            self._current.stir()
            if plan is not None:
                if plan.index is not None:
                    self._holdings.take(plan.index)
                self._roster.adopt(done.snapshot.estate, reckoned.regrouping)
                self._current.snapshot = done.snapshot

        reckoned = self._current.change(reckon, write)
        if reckoned.plan is not None:
            self._live.wake(reckoned.plan.woken)
            self._live.tell(*subjects)
        return reckoned.done

    # --- what feeds bring ---

    def bring_in(self, generation: GenerationInForce, brought: Brought | None, index: IndexRecord | None) -> None:
        """Put a generation of a feed in force: of indicators with their bundles (`brought`), of categories with their
        index. Refusal where machines would have more to carry than they may.
        """

        def reckon() -> _Reckoned:
            before = self.snapshot
            if all(feed.key != generation.feed for feed in before.estate.feeds):
                raise Refusal("not-found", f"There is no feed “{generation.feed}” any more.")
            contents = before.contents if brought is None else {**before.contents, generation.feed: brought}
            estate = filled(before.estate, contents)
            refuse_overload(before.estate, estate, self._roster)
            generations = {**dict(before.naming.generations), generation.feed: generation.number}
            digest = index.digest if index else before.naming.index
            naming = replace(before.naming, index=digest, generations=tuple(sorted(generations.items())))
            after = replace(before, estate=estate, contents=contents, naming=naming)
            going = EstateTransition(before, after, (), self._now())
            with self._store.reading() as connection:
                if index is None:
                    plan = self._planner.plan_generation(connection, going, generation)
                else:
                    plan = self._planner.plan_index(connection, going, index, generation)
            return _Reckoned(Done(after), plan)

        self._carry_out(reckon, ("feed", "device", "finding"))

    def refresh_index(self, index: IndexRecord) -> None:
        """Put an index of the same generations in force, made on another day or by other settings."""

        def reckon() -> _Reckoned:
            before = self.snapshot
            after = replace(before, naming=replace(before.naming, index=index.digest))
            with self._store.reading() as connection:
                going = EstateTransition(before, after, (), self._now())
                return _Reckoned(Done(after), self._planner.plan_index(connection, going, index, None))

        self._carry_out(reckon, ("feed",))

    # --- epochs ---

    def begin_epoch(self) -> int:
        """Begin another epoch: what devices should have is signed for it, and they take it whatever they hold."""

        def reckon() -> _Reckoned:
            before = self.snapshot
            with self._store.reading() as connection:
                epoch = epochs.next_epoch(connection, self._now())
                after = replace(before, naming=replace(before.naming, epoch=epoch))
                going = EstateTransition(before, after, (), self._now())
                return _Reckoned(Done(after), self._planner.plan_signing(connection, going))

        return self._carry_out(reckon, ("device",)).snapshot.naming.epoch

    def sign_anew(self) -> None:
        """Sign what devices should have, where that was done in an earlier form or epoch: by an earlier Portero, or
        before the store was restored.
        """

        def reckon() -> _Reckoned:
            now = self.snapshot
            with self._store.reading() as connection:
                if epochs.is_signed(connection, now.naming.epoch):
                    return _Reckoned(Done(now))
                going = EstateTransition(now, now, (), self._now())
                return _Reckoned(Done(now), self._planner.plan_signing(connection, going, anew=True))

        self._carry_out(reckon, ())

    # --- programs that come later ---

    def note_newcomers(self) -> None:
        """Note which versions of programs have come that an assignment with a hold-back knows nothing of."""
        state = self._roster.fleet.changes, self.snapshot.revision
        if state == self._looked_at or not any(one.hold_back for one in self.snapshot.estate.assignments):
            return
        self._looked_at = state
        programs, purposes = self._foresight.installed(), self._roster.catalogue

        new = {
            sentences.member_words(one)
            for _, some in newcomers(self.snapshot.estate, programs, purposes)
            for one in some
        }
        if not new:
            return

        def edit(snapshot: Snapshot) -> Estate:
            return with_newcomers(snapshot.estate, programs, purposes, moment(float(int(self._now()))))

        self.change(edit, by=BY_ITSELF, reason=sentences.came_later(sorted(new)), passes_gate=False)

    def look_into_folders(self) -> None:
        """Let sets hold what was put into the folders that they watch."""
        state = self._roster.fleet.changes, self.snapshot.revision
        if state == self._watched_at or not any(one.watches for one in self.snapshot.estate.application_sets):
            return
        self._watched_at = state
        with self._store.reading() as connection:
            found = found_in_folders(self.snapshot.estate, lambda name: catalogue.installed_on(connection, name))
        if found:
            names = {sentences.program_words(one.program) for one in found}
            reason = sentences.put_into_folders(sorted(names))
            self.change(
                lambda snapshot: with_found(snapshot.estate, found), by=BY_ITSELF, reason=reason, passes_gate=False
            )

    # --- frozen sets ---

    def with_frozen(self, estate: Estate) -> Estate:
        """The estate with what its frozen sets hold, where it does not say: what devices have now. Refusal."""
        waiting = any(
            not application_set.following and application_set.frozen_members is None
            for application_set in estate.application_sets
        )
        if not waiting:
            return estate
        refuse_faults(estate)
        try:
            return with_frozen_members(estate, list(self._foresight.programs()))
        except CannotFreeze as problem:
            raise Refusal("invalid", wording.as_sentence(str(problem))) from problem

    def frozen(self, application_set: ApplicationSet) -> ApplicationSet:
        """The set with what it holds, where it is frozen and does not say."""
        others = tuple(one for one in self.snapshot.estate.application_sets if one.key != application_set.key)
        return self.with_frozen(Estate(application_sets=(*others, application_set))).application_sets[-1]
