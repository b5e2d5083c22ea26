"""The ladder: where several rules compete for the same thing, rung by rung, the first difference settles it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

import msgspec

from portero.core.nouns.action import STRICTNESS, Action
from portero.core.nouns.selector import Selector
from portero.core.nouns.urls import UrlPattern
from portero.core.nouns.verdict import Rung

CATEGORY, FAMILY, EVERYTHING = range(3)
"""How narrow category selectors are; search terms and exact media types rank with a category, ranges with a family."""

LOOSENESS = {action.value: 1 if action is Action.LOG else -STRICTNESS[action] for action in Action}
"""The rung of strictness: smaller is stricter; what is only recorded comes last."""
_STEP = 100_000
_KINDS = ("query", "exact url", "url", "exact host", "host", "service", "single", "range", "decision", "suitability")
_FIRST_BROAD = _KINDS.index("range") * _STEP - _STEP // 2


def narrowness(selector: Selector) -> int:
    """Rung 2: how narrow a selector is among those it competes with; smaller is narrower, and so stronger."""
    kind, value, exact = selector
    if kind in ("category", "search_term"):
        return CATEGORY
    if kind == "media_type":
        return FAMILY if value.endswith("/*") else CATEGORY
    if kind in ("family", "everything"):
        return FAMILY if kind == "family" else EVERYTHING
    if kind == "url":
        pattern = UrlPattern.read(value, exact)
        named = "query" if pattern.query else "exact url" if pattern.exact else "url"
        # more segments are narrower; with a port before without, where the rest is equal
        return _kind(named) - 2 * pattern.segments - (pattern.port is not None)
    if kind == "host":
        return _kind("exact host") if exact else _kind("host") - value.count(".")
    if kind == "address":
        _, _, prefix = value.partition("/")
        return _kind("range") - int(prefix) if prefix else _kind("single")
    return _kind(kind) if kind in _KINDS else 0


def _kind(name: str) -> int:
    return _KINDS.index(name) * _STEP


def is_broad(narrowness: int) -> bool:
    """Whether an indicator as narrow as that is a broad one: a range of addresses, a decision, a suitability bound."""
    return narrowness > _FIRST_BROAD


class Contender(msgspec.Struct, eq=False, gc=False):
    """One rule ready to compete; on each rung, smaller is stronger. Only `people` depends on who asks.

    It has neither parts nor ways back to itself, so the garbage collector need not look at a hundred thousand of them.
    """

    assignment: int
    rule: int
    """Where it stands in the bundle."""
    action: str
    looseness: int
    narrowness: int
    target: int
    mandatory: bool
    feed: bool
    broad: bool
    until: float | None
    """When it is over, in seconds since 1970."""

    @property
    def place(self) -> tuple[int, int]:
        """Rung 7: the earlier assignment, then the earlier rule."""
        return self.assignment, self.rule

    def strength(self, people: Sequence[int]) -> tuple[int, ...]:
        """Sort key of rungs 2 to 7, strongest first. Among mandatory rules no group and no origin outranks another."""
        if self.mandatory:
            return (self.narrowness, people[self.assignment], 0, 0, self.looseness, self.assignment, self.rule)
        return (
            self.narrowness,
            people[self.assignment],
            self.target,
            self.feed,
            self.looseness,
            self.assignment,
            self.rule,
        )


REPLACED, NOT_IN_PLAY = 8, 9
"""The places on the people rung of assignments that do not count: pushed out by a replacing one; not in play at all."""


class Settled(NamedTuple):
    """A contest settled: the winner of the ordinary rules, of the mandatory ones, and who stands."""

    ordinary: Contender | None
    mandatory: Contender | None
    winner: Contender | None


NOBODY = Settled(None, None, None)


def settle(contenders: Iterable[Contender], people: Sequence[int], at: float) -> Settled:
    """Settle a contest at a moment. `people` gives the place of each assignment on the people rung."""
    sides: tuple[list[Contender], list[Contender]] = ([], [])
    for contender in contenders:
        if (
            contender.looseness <= 0
            and people[contender.assignment] < REPLACED
            and (contender.until is None or at < contender.until)
        ):
            sides[contender.mandatory].append(contender)
    ordinary, mandatory = (_winner(side, people) if side else None for side in sides)
    return Settled(ordinary, mandatory, stands(mandatory, ordinary))


def _winner(side: list[Contender], people: Sequence[int]) -> Contender:
    if len(side) == 1:
        return side[0]
    best = min(side, key=lambda contender: contender.strength(people))
    if best.feed:
        # a feed never loosens: where its rule would win and is looser than the hand-written winner, that one stands
        written = [contender for contender in side if not contender.feed]
        if written:
            by_hand = min(written, key=lambda contender: contender.strength(people))
            if by_hand.looseness < best.looseness:
                return by_hand
    return best


def stands(mandatory: Contender | None, ordinary: Contender | None) -> Contender | None:
    """Rung 1: a mandatory allow stands; a mandatory warn or block stands unless the ordinary winner is stricter."""
    if mandatory is None or ordinary is None:
        return mandatory or ordinary
    if mandatory.action != Action.ALLOW and ordinary.looseness < mandatory.looseness:
        return ordinary
    return mandatory


def lost_on(loser: Contender, winner: Contender, people: Sequence[int]) -> Rung:
    """The rung on which the loser lost: the first on which the two differ."""
    if loser.mandatory != winner.mandatory:
        return Rung.MANDATORY if winner.mandatory else Rung.ACTION
    loosens = loser.feed and not winner.feed and winner.looseness < loser.looseness
    if loosens and loser.strength(people) < winner.strength(people):
        return Rung.ORIGIN
    rungs = (Rung.SELECTOR, Rung.PEOPLE, Rung.TARGET, Rung.ORIGIN, Rung.ACTION)
    for rung, one, other in zip(rungs, loser.strength(people), winner.strength(people), strict=False):
        if one != other:
            return rung
    return Rung.IDENTITY
