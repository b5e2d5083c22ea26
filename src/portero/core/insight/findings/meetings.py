"""What comes of contests: which rules met, who won, and where; rules that are alike together."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Hashable, Mapping, Set
from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal, NamedTuple, TypeVar

from portero.core.insight.effects.sorts import Sorts
from portero.core.insight.effects.subjects import Subject
from portero.core.insight.findings.told import HeldMembers
from portero.core.nouns.action import STOPPING, Action
from portero.core.nouns.verdict import Rung


class InForce(NamedTuple):
    """A rule by way of an assignment and the target by which it reaches a device; None is the device itself. Rules
    that are alike are told apart by `Shape.rules`.
    """

    assignment: str
    ruleset: str
    target: str | None
    action: Action
    mandatory: bool
    closes: bool
    """Whether the rule names everything."""


class Meeting(NamedTuple):
    """Two rules that met in a contest: who won, who lost, on which rung."""

    winner: InForce
    loser: InForce
    rung: Rung

    @property
    def opposes(self) -> bool:
        """Whether two targets, the stronger of which wins, say different things of the same."""
        opposed = self.rung is Rung.TARGET and self.winner.action is not self.loser.action
        return opposed and not self.winner.mandatory and not self.loser.mandatory

    @property
    def opens(self) -> bool:
        """Whether a narrower rule opens what a rule on everything stops."""
        winner, loser = self.winner, self.loser
        if winner.action is not Action.ALLOW or loser.action not in STOPPING or winner.mandatory or loser.mandatory:
            return False
        return loser.closes and self.rung in (Rung.SELECTOR, Rung.BROWSER)


class Shape:
    """Subjects over which rules meet that differ in nothing that counts, each with those rules by slot."""

    def __init__(self) -> None:
        self.subjects: list[Subject] = []
        self.rules: list[tuple[int, ...]] = []
        """For each subject the numbers, in their rulesets, of the rules that meet."""
        self._numbers: dict[int, frozenset[int]] = {}

    def is_as(self, other: Shape) -> bool:
        """Whether it holds the same."""
        return self.rules == other.rules and self.subjects == other.subjects

    def numbers(self, slot: int) -> frozenset[int]:
        """The rules of a slot; asked for once all subjects are there."""
        known = self._numbers.get(slot)
        if known is None:
            known = self._numbers[slot] = frozenset(rules[slot] for rules in self.rules)
        return known


class Pair(NamedTuple):
    """Two assignments that meet, each by way of one target."""

    winner: str
    winner_target: str | None
    loser: str
    loser_target: str | None

    @classmethod
    def of(cls, meeting: Meeting) -> Pair:
        """The assignments of two rules that met."""
        winner, loser = meeting.winner, meeting.loser
        return cls(winner.assignment, winner.target, loser.assignment, loser.target)


Kind = Literal["met", "softened", "disagreeing"]
About = dict[tuple[Meeting, int, int], int]
"""Meetings, with the slots of who won and who lost, and the sorts of devices where."""
Parted = tuple[Shape, About]
"""Meetings over the subjects of a shape."""


@dataclass
class ShapeOutcome:
    """What came of the contests over subjects of one shape: rules by assignment and slot, with sorts of devices.

    Of meetings are kept those that findings are made of: of two targets that say different things, of a group that a
    weaker one opens, and all that rules lost which did not win there.
    """

    in_play: dict[tuple[str, int], int] = field(default_factory=lambda: defaultdict(int))
    won: dict[tuple[str, int], int] = field(default_factory=lambda: defaultdict(int))
    met: About = field(default_factory=lambda: defaultdict(int))
    softened: About = field(default_factory=lambda: defaultdict(int))
    """A warn of an indicator, and the category block that it sets aside."""
    disagreeing: About = field(default_factory=lambda: defaultdict(int))
    """A site list's block, and the indicator's allow that it makes idle."""

    def changed(self, touched: int, there: ShapeOutcome) -> ShapeOutcome | None:
        """This, with what came of the contests on the touched sorts of devices in place of what did before. None where
        that does not say all: where a rule wins nowhere any more, all that it lost counts.
        """
        made = ShapeOutcome(
            *(_replaced(getattr(self, part), getattr(there, part), touched) for part in self.__dataclass_fields__)
        )
        return made if self.won.keys() <= made.won.keys() | (self.won.keys() - made.in_play.keys()) else None

    @cached_property
    def by_pair(self) -> Mapping[Kind, Mapping[Pair, About]]:
        """Its meetings that say something of two assignments, by kind and by the two."""
        found: dict[Kind, dict[Pair, About]] = {"met": {}, "softened": {}, "disagreeing": {}}
        for kind, pairs in found.items():
            about: About = getattr(self, kind)
            for (meeting, winner, loser), where in about.items():
                if kind != "met" or meeting.opposes or meeting.opens:
                    pairs.setdefault(Pair.of(meeting), {})[meeting, winner, loser] = where
        return found

    @cached_property
    def by_loser(self) -> Mapping[str, About]:
        """What rules lost to others, by the assignment of those that lost."""
        found: dict[str, About] = {}
        for (meeting, winner, loser), where in self.met.items():
            found.setdefault(meeting.loser.assignment, {})[meeting, winner, loser] = where
        return found


Part = TypeVar("Part", bound=Hashable)


def _replaced(before: Mapping[Part, int], there: Mapping[Part, int], touched: int) -> dict[Part, int]:
    """What is so where, on the touched sorts of devices as it is so there."""
    found = {key: left for key, where in before.items() if (left := where & ~touched)}
    for key, where in there.items():
        found[key] = found.get(key, 0) | where
    return found


@dataclass
class Contests:
    """What came of all contests."""

    sorts: Sorts
    fleet: int
    """Names what sorts of devices there are in the fleet as it is."""
    alone: frozenset[tuple[str, int]]
    """Rules that win as they meet nobody over some subject, by ruleset and number."""
    held: list[tuple[Shape, ShapeOutcome]] = field(default_factory=list)
    """What came of the contests over the subjects of each shape."""
    _devices: dict[int, HeldMembers] = field(default_factory=dict)

    def pairs(self, kind: Kind, among: Set[Pair] | None = None) -> dict[Pair, list[Parted]]:
        """The meetings of a kind by which assignments meet, or some of these do, shape by shape."""
        found: dict[Pair, list[Parted]] = defaultdict(list)
        for shape, outcome in self.held:
            by_pair = outcome.by_pair[kind]
            for pair in by_pair if among is None else by_pair.keys() & among:
                found[pair].append((shape, by_pair[pair]))
        return found

    def lost(self, among: Set[str]) -> dict[str, list[Parted]]:
        """What rules of some assignments lost to others, by the assignment, shape by shape."""
        found: dict[str, list[Parted]] = defaultdict(list)
        for shape, outcome in self.held if among else ():
            for assignment in outcome.by_loser.keys() & among:
                found[assignment].append((shape, outcome.by_loser[assignment]))
        return found

    def losing(self, ruleset_of: Mapping[str, str]) -> dict[str, dict[int, int]]:
        """The rules that count somewhere and win nowhere: by assignment and number, with the sorts of devices. Given
        the ruleset of each assignment.
        """
        found: dict[str, dict[int, int]] = defaultdict(dict)
        for shape, outcome in self.held:
            for (assignment, slot), where in outcome.in_play.items():
                if (assignment, slot) not in outcome.won:
                    rules = found[assignment]
                    for number in shape.numbers(slot):
                        rules[number] = rules.get(number, 0) | where
        for shape, outcome in self.held if found else ():
            for assignment, slot in outcome.won:
                if rules := found.get(assignment, {}):
                    for number in rules.keys() & shape.numbers(slot):
                        del rules[number]
        for assignment, rules in found.items():
            ruleset = ruleset_of[assignment]
            for number in [number for number in rules if (ruleset, number) in self.alone]:
                del rules[number]
        return {assignment: rules for assignment, rules in found.items() if rules}

    def devices(self, where: int) -> HeldMembers:
        """The devices of some sorts."""
        known = self._devices.get(where)
        if known is None:
            known = self._devices[where] = HeldMembers(self.sorts.members(where))
        return known
