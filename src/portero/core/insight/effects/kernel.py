"""The estate kernel: a contest is settled once for the whole fleet, on every occasion that counts.

A rule by way of an assignment and a target has one strength in all classes, since a class only leaves some rules out.
Where and when it stands are two numbers, with a bit for each sort of devices and one for each occasion.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Hashable, Iterable, Iterator, Sequence
from datetime import datetime
from functools import cached_property
from itertools import chain, product
from typing import NamedTuple

import msgspec

from portero.core.insight.effects.occasions import Hangs, Occasions, Timeline, any_of
from portero.core.insight.effects.outcomes import MadeOf
from portero.core.insight.effects.sorts import Side, Sides, Sorts
from portero.core.matching.applications import Started
from portero.core.matching.hold_back import HoldBack
from portero.core.matching.windows import Windows
from portero.core.nouns.action import STOPPING, Action, overridden
from portero.core.nouns.assignment import Assignment, DeviceTarget, State
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import LayerMode
from portero.core.nouns.ruleset import Ruleset
from portero.core.resolving.bundles import BundleAssignment
from portero.core.resolving.compiling import header_of, seconds_of
from portero.core.resolving.ladder import LOOSENESS, Contender, InPlay, Standing, settle_where, without
from portero.core.resolving.situations import EVERYONE, ITSELF, has_gate

NEVER, FOR_EVER = float("-inf"), float("inf")
_RUNGS = 3


class Rungs:
    """The place on the people rung of an entrant: it enters once for each that it may have."""

    def __getitem__(self, entered: int, /) -> int:
        return entered % _RUNGS


RUNGS = Rungs()


class Target(NamedTuple):
    """A target of an assignment, and where that reaches devices by way of it: where no stronger one of them does."""

    name: str | None
    rank: int
    where: int


class _Assigned(NamedTuple):
    """An assignment in force."""

    place: int
    assignment: Assignment
    header: BundleAssignment
    windows: Windows | None
    """Those of its schedule."""
    targets: tuple[Target, ...]
    is_gated: bool
    hold_back: HoldBack | None
    decides_until: float
    """How long some rule of it decides something."""
    next: float | None
    """When something of it next begins or ends, in seconds."""
    made_of: tuple[object, ...]
    """What it is made of beside its rules, by identity."""

    def whens(self, occasions: Occasions, side: Side) -> list[tuple[int, int]]:
        """When it counts on a side, by its place on the people rung."""
        return occasions.of(self.header, self.windows, side.zone) if self.is_gated else [(EVERYONE, occasions.ever)]

    @property
    def follows_device(self) -> bool:
        """Whether it hangs on the time zone of a device when it counts."""
        return self.windows is not None and self.windows.follows_device


class Entrant(NamedTuple):
    """A rule in a contest, by way of an assignment and one of its targets, with a place on the people rung."""

    contender: Contender
    slot: int
    """Which of the rules that meet it is."""
    assigned: _Assigned
    target: Target
    rung: int
    closes: bool
    """Whether it names everything."""
    may_be_held: bool

    @property
    def always_counts(self) -> bool:
        """Whether it counts at all times, in all places and for all people, unless it is pushed out."""
        return not self.assigned.is_gated and self.contender.until is None and not self.may_be_held

    @property
    def tells_sides_apart(self) -> bool:
        """Whether it may count on one side and not on another."""
        return self.assigned.follows_device or self.may_be_held


class FleetContest:
    """All rules in force that meet over one thing, and by what it is told apart when they count."""

    def __init__(self, entrants: Sequence[Entrant], kind: str, replacing: Sequence[_Assigned], started: Started | None):
        self.entrants, self.kind, self.started, self.replacing = entrants, kind, started, replacing
        gated = {one.place: one for one in (*(entrant.assigned for entrant in entrants), *replacing)}
        ends = {at for entrant in entrants if (at := entrant.contender.until) is not None}
        ends |= {one.decides_until for one in replacing if one.decides_until != FOR_EVER}
        for entrant in entrants if started is not None else ():
            hold_back = entrant.assigned.hold_back
            held = hold_back.look(started, NEVER, False) if hold_back is not None and started is not None else None
            if held is not None and held.until is not None:
                ends.add(held.until)
        self.hangs = Hangs.of((one.header for one in gated.values() if one.is_gated), ends)
        self.tells_sides_apart = any(one.follows_device for one in gated.values()) or any(
            one.may_be_held for one in entrants
        )

    def on(self, where: int) -> FleetContest:
        """The same contest on some sorts of devices alone."""
        entrants = [one for one in self.entrants if one.target.where & where]
        return FleetContest(entrants, self.kind, _those_at(where, self.replacing), self.started)

    @cached_property
    def entered(self) -> dict[Hashable, Entrant]:
        """Those that enter, by all that counts of them but where."""
        return {
            (one.assigned.made_of, one.target.name, *msgspec.structs.astuple(one.contender)[1:]): one
            for one in self.entrants
        }

    def pushing(self) -> dict[Hashable, int]:
        """Where what pushes out others is in force, by all that counts of it."""
        return _reach(self.replacing)


def _those_at(where: int, assigned: Sequence[_Assigned]) -> Sequence[_Assigned]:
    """The assignments that are in force on some sorts of devices."""
    return [one for one in assigned if any(target.where & where for target in one.targets)]


def _reach(assigned: Iterable[_Assigned]) -> dict[Hashable, int]:
    """Where assignments are in force, by all that counts of them."""
    return {
        (one.made_of, one.decides_until, target.name, target.rank): target.where
        for one in assigned
        for target in one.targets
    }


class Playing(NamedTuple):
    """A rule that counts, when and where."""

    entrant: Entrant
    when: int
    where: int


class Kernel:
    """An estate over a fleet."""

    def __init__(
        self, estate: Estate, sorts: Sorts, directory: Directory, now: datetime, timeline: Timeline | None = None
    ) -> None:
        """`timeline` is given where several states are looked at on the same occasions."""
        self.sorts, self._estate, self._directory, self._now = sorts, estate, directory, now
        self._timeline = timeline or Timeline([estate], directory, now)
        self._windows = {schedule.key: Windows.of(schedule) for schedule in estate.schedules}
        self._rank = {key: place for place, key in enumerate(estate.group_order)}
        self._assigned: dict[str, list[_Assigned]] = defaultdict(list)
        self._replacing: dict[str, list[_Assigned]] = defaultdict(list)
        for place, assignment in enumerate(estate.assignments):
            if assignment.state is State.ACTIVE:
                ruleset = estate.ruleset_by_key[assignment.ruleset]
                made = self._assign(place, assignment, ruleset)
                self._assigned[ruleset.key].append(made)
                if made.decides_until > NEVER:
                    self._replacing[ruleset.kind].append(made)
        self._pushed: dict[tuple[str, int, Sides], list[tuple[int, int, int]]] = {}

    def _assign(self, place: int, assignment: Assignment, ruleset: Ruleset) -> _Assigned:
        header = header_of(assignment, ruleset)
        hold_back = HoldBack.of(assignment) if assignment.hold_back is not None else None
        decides_until = _decides_until(assignment, ruleset) if assignment.replaces_weaker else NEVER
        came = (one.at + assignment.hold_back for one in assignment.came) if assignment.hold_back is not None else ()
        begins = (at for at in (header.starts, header.ends) if at is not None)
        return _Assigned(
            place,
            assignment,
            header,
            self._windows[header.schedule] if header.schedule else None,
            tuple(self._targets(assignment)),
            has_gate(header),
            hold_back,
            decides_until,
            self._next((*begins, decides_until, *(at.timestamp() for at in came))),
            (id(assignment), id(self._estate.schedule_by_key.get(header.schedule or "")), header.feed),
        )

    def _targets(self, assignment: Assignment) -> Iterator[Target]:
        taken = 0
        for target in assignment.to:
            if isinstance(target, DeviceTarget):
                taken |= self.sorts.of(target)
        if taken:
            yield Target(None, ITSELF, taken)
        for group in sorted(assignment.groups, key=self._rank.__getitem__):
            if where := self.sorts.of(group) & ~taken:
                yield Target(group, self._rank[group], where)
                taken |= where

    def made_of(self, rulesets: Collection[str], ends: Iterable[float]) -> MadeOf:
        """On what it hangs, beside the rules themselves and what sorts of devices there are, what comes of contests
        among rules of these rulesets. `ends` are the moments, in seconds, at which some of the rules end.
        """
        several = sorted({one.place: one for one in self._among(rulesets)}.values(), key=lambda one: one.place)
        schedules = [
            self._estate.schedule_by_key[key] for key in sorted({one.header.schedule or "" for one in several}) if key
        ]
        told = tuple((one.header.feed, one.decides_until) for one in several)
        return MadeOf(
            tuple(id(one.assignment) for one in several),
            (told, tuple(map(id, schedules)), tuple(one.targets for one in several)),
            (
                id(self._directory) if any(one.is_gated for one in several) else None,
                # what is open at all today, or on the days to come, is so the whole day
                self._now.date() if schedules else None,
                self._next(chain(ends, (one.next for one in several if one.next is not None))),
            ),
            (*(one.assignment for one in several), *schedules, self._directory),
        )

    def _among(self, rulesets: Collection[str]) -> Iterator[_Assigned]:
        """The assignments of these rulesets, and what may push them out."""
        kinds = {self._estate.ruleset_by_key[key].kind for key in rulesets}
        yield from (one for key in rulesets for one in self._assigned.get(key, ()))
        yield from (one for kind in sorted(kinds) for one in self._replacing.get(kind, ()))

    def reach(self, rulesets: Collection[str]) -> dict[Hashable, int]:
        """Where these rulesets are in force by way of which assignments, and what may push those out, by all that
        counts of them.
        """
        return _reach(self._among(rulesets))

    def _next(self, instants: Iterable[float]) -> float | None:
        """When the next of some things begins or ends: until then the same of them have."""
        now = self._now.timestamp()
        return min((at for at in instants if now < at < FOR_EVER), default=None)

    def in_mode(self, layer: str) -> dict[LayerMode, int]:
        """The sorts of devices on which a layer is to do what."""
        return self.sorts.by(lambda groups: self._estate.mode_of(layer, groups))

    # --- contests ---

    def contest(
        self, met: Iterable[tuple[int, str, Contender]], kind: str, started: Started | None = None, where: int = -1
    ) -> FleetContest:
        """The contest of some rules, each given with its slot and its ruleset, over a visit or over a program, on some
        sorts of devices.
        """
        entrants = [one for slot, ruleset, rule in met for one in self._enter(slot, ruleset, rule, where)]
        return FleetContest(entrants, kind, _those_at(where, self._replacing.get(kind, ())), started)

    def _enter(self, slot: int, ruleset: str, rule: Contender, where: int) -> Iterator[Entrant]:
        written = self._estate.ruleset_by_key[ruleset].rules[rule.rule - 1]
        for assigned in self._assigned.get(ruleset, ()):
            header, action = assigned.header, overridden(Action(rule.action), assigned.assignment.action)
            held = assigned.hold_back is not None and action in STOPPING and written.application_set is not None
            for target in assigned.targets:
                if not target.where & where:
                    continue
                for rung in range(EVERYONE) if header.names_people else (EVERYONE,):
                    contender = Contender(
                        assigned.place * _RUNGS + rung,
                        rule.rule,
                        action.value,
                        LOOSENESS[action.value],
                        rule.narrowness,
                        target.rank,
                        header.mandatory,
                        header.feed,
                        rule.broad,
                        rule.until,
                    )
                    yield Entrant(contender, slot, assigned, target, rung, written.names_everything, held)

    def alike(self, contests: Sequence[FleetContest], where: int) -> list[Sides]:
        """The sides of some sorts of devices, those together that the contests do not tell apart."""
        sides = self.sorts.within(where)
        apart = any(contest.tells_sides_apart for contest in contests)
        return [(side,) for side in sides] if apart else [sides] if sides else []

    def occasions(self, contests: Iterable[FleetContest], sides: Sides) -> Occasions:
        """The occasions that differ for some contests, on devices of some sides."""
        hangs = Hangs()
        for contest in contests:
            hangs = hangs.beside(contest.hangs)
        return self._timeline.occasions(hangs, tuple(dict.fromkeys(side.zone for side in sides)))

    def playing(self, contest: FleetContest, occasions: Occasions, sides: Sides) -> list[Playing]:
        """The rules that count, when and where."""
        return list(self._playing(contest, occasions, sides, held=False))

    def held_back(self, contest: FleetContest, occasions: Occasions, sides: Sides) -> list[Playing]:
        """The rules that are held back, when and where: they only record."""
        return list(self._playing(contest, occasions, sides, held=True))

    def _playing(self, contest: FleetContest, occasions: Occasions, sides: Sides, held: bool) -> Iterator[Playing]:
        pushed = self._pushing(contest, occasions, sides) if contest.replacing else []
        all_sides = any_of(side.where for side in sides)
        for entrant in contest.entrants:
            everywhere = entrant.target.where & all_sides
            if not everywhere:
                continue
            for side in sides if entrant.tells_sides_apart else sides[:1]:
                where = everywhere & side.where if entrant.tells_sides_apart else everywhere
                when = self._when(entrant, contest, occasions, side, held) if where else 0
                if not when:
                    continue
                pieces = [(when, where)]
                if pushed and not entrant.contender.mandatory:
                    rank = entrant.contender.target
                    pieces = without(pieces, [(then, there) for other, then, there in pushed if other < rank])
                yield from (Playing(entrant, *piece) for piece in pieces)

    def _when(self, entrant: Entrant, contest: FleetContest, occasions: Occasions, side: Side, held: bool) -> int:
        if held and not entrant.may_be_held:
            return 0
        when = next((one for rung, one in entrant.assigned.whens(occasions, side) if rung == entrant.rung), 0)
        if entrant.contender.until is not None:
            when &= occasions.before(entrant.contender.until)
        hold_back, started = entrant.assigned.hold_back, contest.started
        if entrant.may_be_held and hold_back is not None and started is not None:
            when &= occasions.at_which(lambda at: (hold_back.look(started, at, side.is_server) is not None) is held)
        return when

    def _pushing(self, contest: FleetContest, occasions: Occasions, sides: Sides) -> list[tuple[int, int, int]]:
        """When and where weaker assignments are pushed out: those with a target behind a rank."""
        key = (contest.kind, id(occasions), sides)
        known = self._pushed.get(key)
        if known is None:
            known = self._pushed[key] = []
            for one, side in product(contest.replacing, sides):
                whens = [when for _, when in one.whens(occasions, side)]
                if one.decides_until != FOR_EVER:
                    whens = [when & occasions.before(one.decides_until) for when in whens]
                known += ((target.rank, when, target.where & side.where) for when in whens for target in one.targets)
        return known


def settled(playing: Iterable[Playing], occasions: Occasions) -> list[Standing]:
    """A contest settled: who stands when and where."""
    in_play = (InPlay(one.entrant.contender, one.when, one.where) for one in playing)
    return list(settle_where(in_play, RUNGS, occasions.ever))


def who_won(standing: Iterable[Standing]) -> list[InPlay]:
    """Who stands, when and where."""
    return [InPlay(one.winner, when, where) for one, when, where in standing if one.winner is not None]


def _decides_until(assignment: Assignment, ruleset: Ruleset) -> float:
    """How long some rule of it decides something: on that it hangs whether it replaces weaker ones."""
    ends = [
        FOR_EVER if rule.valid_until is None else seconds_of(rule.valid_until) or 0.0
        for rule in ruleset.rules
        if overridden(rule.action, assignment.action) is not Action.LOG
    ]
    return max(ends, default=NEVER)
