"""A slow second answer: the contests of an estate held device by device, frame by frame."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from slow_looks import every_device

from portero.core.insight.effects.matcher import Matcher
from portero.core.insight.effects.subjects import KnownSubjects, Shown, Subject
from portero.core.insight.effects.world import World
from portero.core.insight.findings.contested import Arena, generic_subjects, is_of_host
from portero.core.matching.members import Member
from portero.core.nouns.action import Action
from portero.core.nouns.estate import Estate
from portero.core.nouns.verdict import Rung
from portero.core.resolving.deciding import Outcome, weigh, weigh_sites, weigh_start
from portero.core.resolving.ladder import Contender, Settled, lost_on
from portero.core.resolving.policy import Frame, Policy


class InForce(NamedTuple):
    """A rule by way of an assignment and the target by which it reaches a device; None is the device itself."""

    assignment: str
    ruleset: str
    rule: int
    target: str | None
    action: Action
    mandatory: bool


class Meeting(NamedTuple):
    """Two rules that met in a contest: who won, who lost, on which rung."""

    winner: InForce
    loser: InForce
    rung: Rung


class ContestTally:
    """On which devices something is so, and about what it is."""

    def __init__(self) -> None:
        self.devices: set[str] = set()
        self.subjects: set[Subject] = set()

    def add(self, member: Member, subject: Subject) -> None:
        """Note that it is so on a device."""
        self.devices.add(member.id)
        self.subjects.add(subject)


@dataclass
class Contests:
    """What came of all contests."""

    met: dict[Meeting, ContestTally] = field(default_factory=lambda: defaultdict(ContestTally))
    softened: dict[Meeting, ContestTally] = field(default_factory=lambda: defaultdict(ContestTally))
    """A warn of an indicator, and the category block that it sets aside."""
    disagreeing: dict[Meeting, ContestTally] = field(default_factory=lambda: defaultdict(ContestTally))
    """A site list's block, and the indicator's allow that it makes idle."""
    in_play: dict[tuple[str, int], ContestTally] = field(default_factory=lambda: defaultdict(ContestTally))
    """Rules by assignment and number, with the devices on which they counted."""
    winning: set[tuple[str, int]] = field(default_factory=set)


def hold_contests(estate: Estate, world: World, matcher: Matcher) -> Contests:
    """Let all rules in force meet. A rule that no other one meets wins, and is not looked at."""
    found = Contests()
    subjects, found.winning = _contested(estate, world, matcher)
    shown = {subject: matcher.show(subject) for subject in subjects}
    for looked in every_device([estate], [world], world.now):
        ring = _Ring(found, looked.member, looked.policies[0])
        for frame in dict.fromkeys(look.frames[0] for look in looked.looks):
            ring.hold(frame, shown)
    return found


# --- which subjects are contested ---


class Met(NamedTuple):
    """A rule that matches a subject, as its ruleset has it."""

    ruleset: str
    rule: int
    action: Action


class _Arena(Arena):
    """Tells which subjects are contested, and by which rules."""

    def enter(self, shown: Shown) -> tuple[frozenset[Met], bool]:
        """The rules that match, and whether any two of them can meet."""
        met = self._matcher.meet(shown)
        others, indicators = [self._met(contest) for contest in met.others], self._met(met.indicators)
        sites = self._met([contender for _, contender in met.sites])
        every = frozenset(meeting for contest in (*others, indicators, sites) for meeting in contest)
        if any(map(self._can_meet, (*others, indicators, sites))):
            return every, True
        warns = any(indicator.action is Action.WARN or indicator.ruleset in self._warning for indicator in indicators)
        allows = any(indicator.action is Action.ALLOW for indicator in indicators)
        return every, (warns and any(others)) or (allows and bool(sites))

    def _met(self, contenders: Iterable[Contender]) -> list[Met]:
        return [Met(self._matcher.ruleset_of(one), one.rule, Action(one.action)) for one in contenders]

    def _can_meet(self, contest: Sequence[Met]) -> bool:
        return len(contest) > 1 or any(len(self.by_ruleset[met.ruleset]) > 1 for met in contest)

    def named(self, met: Iterable[Met]) -> Iterator[tuple[str, int]]:
        """The rules by assignment and number."""
        return ((key, meeting.rule) for meeting in met for key in self.by_ruleset[meeting.ruleset])


def _contested(estate: Estate, world: World, matcher: Matcher) -> tuple[list[Subject], set[tuple[str, int]]]:
    """The subjects over which rules in force can meet; and the rules that win as they meet nobody over some subject."""
    known = KnownSubjects.of([estate], world.programs, world.catalogue)
    arena = _Arena(estate, matcher)
    contested: list[Subject] = []
    alone: set[tuple[str, int]] = set()
    lonely: set[tuple[str, int]] = set()
    seen: set[object] = set()
    for subject in dict.fromkeys(generic_subjects(estate, known, arena, lonely)):
        shown = matcher.show(subject)
        met, meets = arena.enter(shown)
        if not meets:
            alone.update(arena.named(met))
            continue
        likeness = (met, subject if subject.kind in ("category", "program") else matcher.likeness(shown))
        if likeness not in seen:
            seen.add(likeness)
            contested.append(subject)
    own = {(key, number) for ruleset, number in lonely for key in arena.by_ruleset[ruleset]}
    return contested, alone | own


# --- the contests of one device ---


class _Ring:
    """Holds the contests of one device."""

    def __init__(self, found: Contests, member: Member, policy: Policy) -> None:
        self._found, self._member, self._policy = found, member, policy

    def hold(self, frame: Frame, shown: Mapping[Subject, Shown]) -> None:
        """All contests over these subjects in a frame."""
        for subject, one in shown.items():
            if one.started is not None:
                outcome = weigh_start(frame, one.started)
                self._settle(frame, subject, outcome.contenders, outcome.settled)
            elif one.visited is not None:
                weighed = weigh(frame, one.visited)
                self._settle(frame, subject, weighed.met, weighed.indicator)
                for contest in weighed.contests if not is_of_host(subject) else ():
                    self._settle(frame, subject, contest.contenders, contest.settled)
                self._soften(subject, weighed)
                self._sites(frame, subject, one, weighed)

    def _named(self, contender: Contender) -> InForce:
        own = self._policy.bundle.assignments[contender.assignment]
        return InForce(own.key, own.ruleset, contender.rule, own.target, Action(contender.action), own.mandatory)

    def _note(self, subject: Subject, contender: Contender, wins: bool) -> None:
        named = self._named(contender)
        key = (named.assignment, named.rule)
        self._found.in_play[key].add(self._member, subject)
        if wins:
            self._found.winning.add(key)

    def _settle(self, frame: Frame, subject: Subject, contenders: Sequence[Contender], settled: Settled) -> None:
        for contender in contenders:
            if contender.action == Action.LOG or not frame.counts(contender):
                continue
            self._note(subject, contender, contender is settled.winner)
            # where a mandatory rule stands it is moot who won among the ordinary ones
            if settled.winner is not None and settled.winner is not contender:
                self._meet(subject, settled.winner, contender, lost_on(contender, settled.winner, frame.people))

    def _meet(self, subject: Subject, winner: Contender, loser: Contender, rung: Rung) -> None:
        meeting = Meeting(self._named(winner), self._named(loser), rung)
        self._found.met[meeting].add(self._member, subject)

    def _soften(self, subject: Subject, weighed: Outcome) -> None:
        lifting = weighed.lifting
        if lifting is None or lifting.action != Action.WARN:
            return
        for contest in weighed.contests:
            lifted = contest.settled.winner
            if lifted is not None and lifted.action == Action.BLOCK and contest.remaining is not lifted:
                meeting = Meeting(self._named(lifting), self._named(lifted), Rung.LIFTED)
                self._found.softened[meeting].add(self._member, subject)

    def _sites(self, frame: Frame, subject: Subject, shown: Shown, weighed: Outcome) -> None:
        if not self._policy.sites or shown.visited is None:
            return
        visit = shown.visited.visit
        outcome = weigh_sites(frame, visit)
        winner = outcome.winner[1] if outcome.winner else None
        merged = frame.site_list
        for pattern, one in self._policy.sites_met(visit):
            if one.action == Action.LOG or not frame.counts(one):
                continue
            self._note(subject, one, one is winner)
            own = merged.settled[pattern].winner
            if own is not None and one is not own:
                self._meet(subject, own, one, lost_on(one, own, frame.people))
            elif pattern in merged.left_out:
                self._meet(subject, merged.left_out[pattern], one, Rung.MANDATORY)
            elif winner is not None and one is not winner:
                self._meet(subject, winner, one, Rung.BROWSER)
        allowing = weighed.indicator.winner
        if winner is not None and winner.action == Action.BLOCK and allowing and allowing.action == Action.ALLOW:
            meeting = Meeting(self._named(winner), self._named(allowing), Rung.STRICTEST)
            self._found.disagreeing[meeting].add(self._member, subject)
