"""The ladder: where several rules compete for the same thing, rung by rung, the first difference settles it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from itertools import starmap
from typing import NamedTuple, Protocol, TypeVar

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


class PeopleRungs(Protocol):
    """The place of each assignment on the people rung, by where the assignment stands."""

    def __getitem__(self, place: int, /) -> int: ...


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

    def strength(self, people: PeopleRungs) -> tuple[int, ...]:
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


def settle(contenders: Iterable[Contender], people: PeopleRungs, at: float) -> Settled:
    """Settle a contest at a moment. `people` gives the place of each assignment on the people rung."""
    playing = [
        InPlay(contender, 1, 1)
        for contender in contenders
        if people[contender.assignment] < REPLACED and (contender.until is None or at < contender.until)
    ]
    return next((settled for settled, _, _ in settle_where(playing, people, 1)), NOBODY)


class Ranking:
    """Contenders in the order of their strength, once for each place on the people rung that they may have: who is the
    strongest in some situation then costs a look at those before it.
    """

    def __init__(self, contenders: Iterable[Contender], rungs_of: Callable[[int], Iterable[int]]) -> None:
        """`rungs_of` gives the places on the people rung that an assignment may have where it counts."""
        placed = [(rung, one) for one in contenders if one.looseness <= 0 for rung in rungs_of(one.assignment)]
        placed.sort(key=lambda entry: entry[1].strength({entry[1].assignment: entry[0]}))
        self._sides = tuple([entry for entry in placed if entry[1].mandatory is side] for side in (False, True))

    def strongest(self, people: PeopleRungs, at: float) -> Iterator[Contender]:
        """Those in play on whom it hangs who wins: of the ordinary and of the mandatory ones the strongest, and where
        that is a feed's also the strongest that is not.
        """
        for side in self._sides:
            for rung, one in side:
                if people[one.assignment] == rung and (one.until is None or at < one.until):
                    yield one
                    if not one.feed:
                        break


class InPlay(NamedTuple):
    """A contender, and when and where it is in play: a bit for each occasion, and one for each sort of machines."""

    contender: Contender
    when: int
    where: int


Ranked = TypeVar("Ranked")
Standing = tuple[Settled, int, int]
"""Who stands when and where."""


def settle_where(in_play: Iterable[InPlay], people: PeopleRungs, ever: int) -> Iterator[Standing]:
    """Settle a contest for many sorts of machines on many occasions at once. A contender has the same strength in all
    of them, as a sort or an occasion only leaves some out. `ever` is all occasions. Where nobody decides anything is
    left out.
    """
    sides: tuple[list[InPlay], list[InPlay]] = ([], [])
    for one in in_play:
        if one.contender.looseness <= 0 and one.where and one.when:
            sides[one.contender.mandatory].append(one)
    ordinary = _winners(sides[False], people, ever)
    if not sides[True]:
        yield from ((Settled(below, None, below), when, where) for below, when, where in ordinary)
        return
    mandatory = _winners(sides[True], people, ever)
    for above, when, where in mandatory:
        for below, then, there in ordinary:
            if (at := where & there) and (both := when & then):
                yield Settled(below, above, stands(above, below)), both, at
    for above, when, where in mandatory:
        for then, there in _beyond(when, where, ordinary):
            yield Settled(None, above, above), then, there
    for below, when, where in ordinary:
        for then, there in _beyond(when, where, mandatory):
            yield Settled(below, None, below), then, there


def _winners(side: list[InPlay], people: PeopleRungs, ever: int) -> list[InPlay]:
    """Who wins when and where among the mandatory, or among the ordinary rules."""
    if len(side) <= 1:
        return side
    side.sort(key=lambda one: one.contender.strength(people))
    first = list(starmap(InPlay, first_where(side, ever)))
    if not any(best.contender.feed for best in first):
        return first
    # a feed never loosens: where its rule would win and is looser than the hand-written winner, that one stands
    written = (one for one in side if not one.contender.feed)
    by_hand = list(starmap(InPlay, first_where(written, ever)))
    found: list[InPlay] = []
    for best in first:
        stricter = [one for one in by_hand if one.contender.looseness < best.contender.looseness]
        if not best.contender.feed or not stricter:
            found.append(best)
            continue
        found += (
            InPlay(by_hand_too, both, at)
            for by_hand_too, then, there in stricter
            if (at := best.where & there) and (both := best.when & then)
        )
        found += (InPlay(best.contender, *left) for left in _beyond(best.when, best.where, stricter))
    return found


def first_where(ranked: Iterable[tuple[Ranked, int, int]], ever: int) -> Iterator[tuple[Ranked, int, int]]:
    """Each when and where none before it is."""
    rows = list(ranked)
    if len(rows) > _FEW and len({when for _, when, _ in rows}) > 4 * len({where for _, _, where in rows}):
        # what is left is kept by what there are fewer of
        turned = _first([(one, where, when) for one, when, where in rows], -1, ever)
        yield from ((one, when, where) for one, where, when in turned)
    else:
        yield from _first(rows, ever, -1)


_FEW = 8
"""Of so many it is not worth looking how they are kept best."""


def _first(ranked: Iterable[tuple[Ranked, int, int]], ever: int, everywhere: int) -> Iterator[tuple[Ranked, int, int]]:
    # where something is left, by when
    left: dict[int, int] = {ever: everywhere}
    for one, when, where in ranked:
        after: dict[int, int] = {}
        pieces: dict[int, int] = {}
        for then, there in left.items():
            won = then & when
            at = there & where if won else 0
            if not at:
                after[then] = after.get(then, 0) | there
                continue
            pieces[at] = pieces.get(at, 0) | won
            if beside := there & ~at:
                after[then] = after.get(then, 0) | beside
            if otherwise := then & ~when:
                after[otherwise] = after.get(otherwise, 0) | at
        yield from ((one, won, at) for at, won in pieces.items())
        left = after


def _beyond(when: int, where: int, others: Iterable[InPlay]) -> list[tuple[int, int]]:
    """What of some occasions and places none of the others has."""
    return without([(when, where)], ((other.when, other.where) for other in others if other.where & where))


def without(pieces: list[tuple[int, int]], others: Iterable[tuple[int, int]]) -> list[tuple[int, int]]:
    """What of some occasions and places, in pieces, is in none of the others."""
    for then, there in others:
        left: list[tuple[int, int]] | None = None
        for place, (when, where) in enumerate(pieces):
            at = where & there
            both = when & then if at else 0
            if not both:
                if left is not None:
                    left.append((when, where))
                continue
            if left is None:
                left = pieces[:place]
            if otherwise := when & ~then:
                left.append((otherwise, where))
            if beside := where & ~there:
                left.append((both, beside))
        if left is not None:
            pieces = left
            if not pieces:
                break
    return pieces


def stands(mandatory: Contender | None, ordinary: Contender | None) -> Contender | None:
    """Rung 1: a mandatory allow stands; a mandatory warn or block stands unless the ordinary winner is stricter."""
    if mandatory is None or ordinary is None:
        return mandatory or ordinary
    if mandatory.action != Action.ALLOW and ordinary.looseness < mandatory.looseness:
        return ordinary
    return mandatory


def lost_on(loser: Contender, winner: Contender, people: PeopleRungs) -> Rung:
    """The rung on which the loser lost: the first on which the two differ."""
    if loser.mandatory != winner.mandatory:
        return Rung.MANDATORY if winner.mandatory else Rung.ACTION
    loosens = loser.feed and not winner.feed and winner.looseness < loser.looseness
    if loosens and loser.strength(people) < winner.strength(people):
        return Rung.ORIGIN
    # in the order of `Contender.strength`
    if loser.narrowness != winner.narrowness:
        return Rung.SELECTOR
    if people[loser.assignment] != people[winner.assignment]:
        return Rung.PEOPLE
    if not loser.mandatory and loser.target != winner.target:
        return Rung.TARGET
    if not loser.mandatory and loser.feed != winner.feed:
        return Rung.ORIGIN
    return Rung.ACTION if loser.looseness != winner.looseness else Rung.IDENTITY
