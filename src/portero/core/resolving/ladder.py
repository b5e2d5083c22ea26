"""The ladder: where several rules compete for the same thing, rung by rung, the first difference settles it.

Rungs that no rule can differ on yet (people, origin) are not carried; they take their place between the others
when their nouns arrive.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from portero.core.nouns.action import STRICTNESS
from portero.core.nouns.verdict import Rung

NARROWNESS = {"category": 0, "family": 1, "everything": 2}
"""Rung 2 for categories: smaller is narrower, and so stronger."""


class Contender(NamedTuple):
    """One deciding rule in a contest, with its place on each rung; smaller is stronger."""

    selector: int
    target: int
    action: int
    identity: tuple[int, int]
    mandatory: bool
    verdict: str
    assignment: int
    rule: int

    def strength(self) -> tuple[object, ...]:
        """Sort key: strongest first. Among mandatory rules no group outranks another's word."""
        if self.mandatory:
            return (self.selector, self.action, self.identity)
        return (self.selector, self.target, self.action, self.identity)


def contender(narrowness: int, target_rank: int, action: str, assignment: int, rule: int, mandatory: bool) -> Contender:
    """A rule ready to compete. `assignment` and `rule` are its places in the bundle."""
    return Contender(
        narrowness, target_rank, -STRICTNESS[action], (assignment, rule), mandatory, action, assignment, rule
    )


class Contest(NamedTuple):
    """All rules that compete for one thing, each side strongest first, and what only records beside them."""

    ordinary: tuple[Contender, ...]
    mandatory: tuple[Contender, ...]
    logged: tuple[tuple[int, int], ...]

    @property
    def winner(self) -> Contender | None:
        """The rule that stands (rung 1 in full), or None where nobody competes."""
        return stands(self.mandatory[0] if self.mandatory else None, self.ordinary[0] if self.ordinary else None)


def make_contest(contenders: Iterable[Contender], logged: Iterable[tuple[int, int]] = ()) -> Contest:
    """Sort the contenders into a contest."""
    sides: tuple[list[Contender], list[Contender]] = ([], [])
    for one in contenders:
        sides[one.mandatory].append(one)
    ordinary, mandatory = (tuple(sorted(side, key=Contender.strength)) for side in sides)
    return Contest(ordinary, mandatory, tuple(logged))


def stands(mandatory: Contender | None, ordinary: Contender | None) -> Contender | None:
    """Rung 1: a mandatory allow stands; a mandatory warn or block stands unless the ordinary winner is stricter."""
    if mandatory is None or ordinary is None:
        return mandatory or ordinary
    if mandatory.verdict != "allow" and STRICTNESS[ordinary.verdict] > STRICTNESS[mandatory.verdict]:
        return ordinary
    return mandatory


def lost_on(loser: Contender, winner: Contender) -> Rung:
    """The first rung on which the two differ."""
    if loser.mandatory != winner.mandatory:
        return Rung.MANDATORY if winner.mandatory else Rung.ACTION
    if loser.selector != winner.selector:
        return Rung.SELECTOR
    if not loser.mandatory and loser.target != winner.target:
        return Rung.TARGET
    if loser.action != winner.action:
        return Rung.ACTION
    return Rung.IDENTITY
