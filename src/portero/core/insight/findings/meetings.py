"""What comes of contests: which rules met, who won, and where; rules that are alike together."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from portero.core.insight.effects.sorts import Sorts
from portero.core.insight.effects.subjects import Subject
from portero.core.insight.findings.told import HeldMembers
from portero.core.nouns.action import Action
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


class Shape:
    """Subjects over which rules meet that differ in nothing that counts, each with those rules by slot."""

    def __init__(self) -> None:
        self.subjects: list[Subject] = []
        self.rules: list[tuple[int, ...]] = []
        """For each subject the numbers, in their rulesets, of the rules that meet."""
        self._numbers: dict[int, frozenset[int]] = {}

    def numbers(self, slot: int) -> frozenset[int]:
        """The rules of a slot; asked for once all subjects are there."""
        known = self._numbers.get(slot)
        if known is None:
            known = self._numbers[slot] = frozenset(rules[slot] for rules in self.rules)
        return known


class Tally:
    """On which sorts of devices something is so, and of which rules in which shapes: by their slots there."""

    def __init__(self) -> None:
        self.where = 0
        self.about: dict[tuple[Shape, int, int], int] = {}

    def subjects(self) -> Iterator[Subject]:
        """About what it is so."""
        for shape in dict.fromkeys(shape for shape, _, _ in self.about):
            yield from shape.subjects

    def rules(self) -> Iterator[tuple[int, int]]:
        """The numbers of the rules that won and lost."""
        for shape, winner, loser in self.about:
            yield from ((rules[winner], rules[loser]) for rules in shape.rules)


About = dict[tuple[Meeting, int, int], int]
"""Meetings, with the slots of who won and who lost, and the sorts of devices where."""


@dataclass
class ShapeOutcome:
    """What came of the contests over subjects of one shape: rules by assignment and slot, with sorts of devices."""

    in_play: dict[tuple[str, int], int] = field(default_factory=lambda: defaultdict(int))
    won: set[tuple[str, int]] = field(default_factory=set)
    met: About = field(default_factory=lambda: defaultdict(int))
    softened: About = field(default_factory=lambda: defaultdict(int))
    disagreeing: About = field(default_factory=lambda: defaultdict(int))


@dataclass
class Contests:
    """What came of all contests."""

    sorts: Sorts
    met: dict[Meeting, Tally] = field(default_factory=lambda: defaultdict(Tally))
    """Those that findings are made of: of two targets that say different things, of a group that a weaker one opens,
    and all that rules lost which did not win there.
    """
    softened: dict[Meeting, Tally] = field(default_factory=lambda: defaultdict(Tally))
    """A warn of an indicator, and the category block that it sets aside."""
    disagreeing: dict[Meeting, Tally] = field(default_factory=lambda: defaultdict(Tally))
    """A site list's block, and the indicator's allow that it makes idle."""
    in_play: dict[tuple[str, int], int] = field(default_factory=lambda: defaultdict(int))
    """Rules by assignment and number, with the sorts of devices on which they counted."""
    winning: set[tuple[str, int]] = field(default_factory=set)

    def add(self, shape: Shape, outcome: ShapeOutcome) -> None:
        """What came of a shape's contests is so for each of its subjects."""
        for (assignment, slot), where in outcome.in_play.items():
            wins = (assignment, slot) in outcome.won
            for rules in shape.rules:
                self.in_play[assignment, rules[slot]] |= where
                if wins:
                    self.winning.add((assignment, rules[slot]))
        for tallies, about in (
            (self.met, outcome.met),
            (self.softened, outcome.softened),
            (self.disagreeing, outcome.disagreeing),
        ):
            for (meeting, winner, loser), where in about.items():
                tally = tallies[meeting]
                tally.where |= where
                tally.about[shape, winner, loser] = where

    def devices(self, where: Iterable[int]) -> HeldMembers:
        """The devices of some sorts together."""
        together = 0
        for one in where:
            together |= one
        return HeldMembers(self.sorts.members(together))
