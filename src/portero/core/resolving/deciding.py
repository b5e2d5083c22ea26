"""Decide an attempt: what each layer's rules say of it. One implementation, for service, endpoint and previews."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cmp_to_key
from itertools import chain
from typing import NamedTuple, Self

import msgspec

from portero.core.matching.applications import Started
from portero.core.nouns.action import Action
from portero.core.nouns.coverage import ListSupport
from portero.core.nouns.patterns import Pattern
from portero.core.nouns.urls import Visit
from portero.core.resolving.ladder import (
    NOBODY,
    REPLACED,
    Contender,
    PeopleRungs,
    Settled,
    Standing,
    first_where,
    without,
)
from portero.core.resolving.policy import Frame, Policy


class Visited(NamedTuple):
    """A visit with all that rules look at. Without `page` only the host is seen of it."""

    visit: Visit
    categories: Sequence[str]
    address: str | None = None
    searched: str | None = None
    media_type: str | None = None
    page: bool = True

    def by_host(self) -> Visited:
        """The same visit where only its host is seen."""
        return self._replace(searched=None, media_type=None, page=False)


class Contest(NamedTuple):
    """One contest beside the indicators': a category's, a search term's or the media type's; and what is left of it."""

    name: str
    contenders: Sequence[Contender]
    settled: Settled
    remaining: Contender | None
    """Its winner, unless an indicator set that aside."""


class Outcome(NamedTuple):
    """What the filter's rules come to. Without a winner the visit is allowed."""

    winner: Contender | None
    met: Sequence[Contender]
    indicator: Settled
    lifting: Contender | None
    """The indicator that sets winners of other contests aside."""
    contests: Sequence[Contest]


def content_met(policy: Policy, visited: Visited) -> Iterator[tuple[str, Sequence[Contender]]]:
    """The contests over what is searched for and over the media type, by what each is over."""
    if visited.searched and policy.terms:
        for term, contenders in policy.terms.met_by(visited.searched):
            yield f"“{term}”", contenders
    if visited.media_type and policy.media:
        family = visited.media_type.partition("/")[0]
        yield visited.media_type, [*policy.media.get(visited.media_type, ()), *policy.media.get(f"{family}/*", ())]


def _other_contests(frame: Frame, visited: Visited) -> list[tuple[str, Sequence[Contender], Settled]]:
    policy = frame.policy
    found: list[tuple[str, Sequence[Contender], Settled]] = [
        (key, policy.categories.get(key, ()), frame.category(key)) for key in visited.categories
    ]
    found += ((name, contenders, frame.settle(contenders)) for name, contenders in content_met(policy, visited))
    return found


def weigh(frame: Frame, visited: Visited, met: Sequence[Contender] | None = None) -> Outcome:
    """What the filter's rules say of a visit; `met` are the indicators that hold it, where that is known."""
    if met is None:
        met = frame.policy.indicators.met_by(visited.visit, visited.address, visited.page)
    indicator = frame.settle(met) if met else NOBODY
    lifting = lifting_of(indicator)
    best, contests = indicator.winner, []
    for name, contenders, settled in _other_contests(frame, visited):
        remaining = _remaining(settled, lifting)
        contests.append(Contest(name, contenders, settled, remaining))
        if remaining is not None and (best is None or _before(frame.people, remaining, best, best is indicator.winner)):
            best = remaining
    return Outcome(best, met, indicator, lifting, contests)


def decide(frame: Frame, visited: Visited) -> Contender | None:
    """The rule that settles a visit at the filter; None where nothing does, and it is allowed."""
    policy = frame.policy
    by_content = (visited.searched and policy.terms) or (visited.media_type and policy.media)
    met = policy.indicators.met_by(visited.visit, visited.address, visited.page)
    if by_content or met:
        return weigh(frame, visited, met).winner
    # most visits meet no indicator and are settled by their categories alone
    best: Contender | None = None
    for key in visited.categories:
        winner = frame.category(key).winner
        if winner is not None and (best is None or _before(frame.people, winner, best, False)):
            best = winner
    return best


def lifting_of(indicator: Settled) -> Contender | None:
    """A mandatory allow of a narrow indicator is the verdict; a narrow hand-written ordinary winner lifts what is
    ordinary, also where a mandatory indicator stands above it.
    """
    mandatory, ordinary = indicator.mandatory, indicator.ordinary
    if mandatory is not None and mandatory.action == Action.ALLOW and not mandatory.broad:
        return mandatory
    return ordinary if ordinary is not None and not ordinary.feed and not ordinary.broad else None


def _remaining(settled: Settled, lifting: Contender | None) -> Contender | None:
    """What is left of a contest beside the indicators': a mandatory allow of a narrow indicator sets it aside, another
    lifting one what is ordinary in it.
    """
    if lifting is None:
        return settled.winner
    return None if lifting.mandatory else settled.mandatory


def _before(people: PeopleRungs, contender: Contender, best: Contender, best_is_indicator: bool) -> bool:
    """Whether a category's (or such) winner is named before the best so far: the stricter; then the mandatory; then
    the indicator; then by the ladder.
    """
    if contender.looseness != best.looseness:
        return contender.looseness < best.looseness
    if contender.mandatory != best.mandatory:
        return contender.mandatory
    return not best_is_indicator and contender.strength(people) < best.strength(people)


_Row = tuple[Contender, bool, int, int]
"""A rule that may settle a visit, whether it is an indicator, when and where."""


def decide_where(
    indicators: Sequence[Standing], contests: Sequence[Sequence[Standing]], people: PeopleRungs, ever: int
) -> Iterator[tuple[Contender, int, int]]:
    """The rule that settles a visit when and where, as `weigh` has it: given how the contest of the indicators stands,
    and how the others do. `ever` is all occasions; where nothing settles it is left out.
    """
    rows: list[_Row] = [(one.winner, True, when, where) for one, when, where in indicators if one.winner is not None]
    for settled, when, where in chain.from_iterable(contests):
        pieces: list[tuple[Contender | None, int, int]] = [
            (None, *left) for left in without([(when, where)], [(then, there) for _, then, there in indicators])
        ]
        pieces += [(lifting_of(one), when & then, where & there) for one, then, there in indicators]
        for lifting, then, there in pieces:
            remaining = _remaining(settled, lifting) if then and there else None
            if remaining is not None:
                rows.append((remaining, False, then, there))

    def compare(one: _Row, other: _Row) -> int:
        if one[1] and not other[1]:
            return -compare(other, one)
        if _before(people, one[0], other[0], other[1]):
            return -1
        # what is not named before an indicator comes behind it
        return 1 if one[1] != other[1] or _before(people, other[0], one[0], one[1]) else 0

    rows.sort(key=cmp_to_key(compare))
    return first_where(((contender, when, where) for contender, _, when, where in rows), ever)


# --- starts ---


class StartOutcome(NamedTuple):
    """What the startup rules come to."""

    contenders: Sequence[Contender]
    settled: Settled
    missing: frozenset[str]
    """Fields that rules in play look at and the attempt does not carry."""
    logged: Sequence[Contender]


def weigh_start(frame: Frame, program: Started) -> StartOutcome:
    """What the startup rules say of a program about to start."""
    policy = frame.policy
    contenders: list[Contender] = []
    missing: set[str] = set()
    for known in policy.programs:
        fit = known.fit(program)
        if fit.narrowness is not None:
            rule = known.rule
            if frame.held(known, program) is not None:
                rule = msgspec.structs.replace(rule, action=Action.LOG.value)
            contenders.append(policy.contender(known.assignment, rule, fit.narrowness))
        if fit.missing and frame.people[known.assignment] < REPLACED:
            missing |= fit.missing
    logged = [contender for contender in contenders if contender.action == Action.LOG and frame.counts(contender)]
    return StartOutcome(contenders, frame.settle(contenders), frozenset(missing), logged)


# --- site lists ---


class SiteOutcome(NamedTuple):
    """What a site list comes to in a browser: the pattern that counts, and all that match."""

    winner: tuple[Pattern, Contender] | None
    matching: Sequence[tuple[Pattern, Contender]]

    @classmethod
    def of(cls, matching: Iterable[tuple[Pattern, Contender]]) -> Self:
        """Of those that match, given in the order in which they count."""
        found = tuple(matching)
        return cls(found[0] if found else None, found)

    @property
    def allows(self) -> bool:
        """Whether the visit passes."""
        return self.winner is None or self.winner[1].action == Action.ALLOW


def weigh_sites(frame: Frame, visit: Visit) -> SiteOutcome:
    """What the merged list means, whatever the browser: of the patterns that match, the more specific one counts, and
    of equally specific ones one that allows.
    """
    return SiteOutcome.of(frame.site_list.matching(visit))


def weigh_handed(frame: Frame, visit: Visit, support: ListSupport) -> SiteOutcome:
    """What a browser makes of the list that it is handed."""
    merged = frame.site_list
    if merged.is_handed_whole(support):
        return weigh_sites(frame, visit)
    return SiteOutcome.of(merged.patterns[place] for place in merged.handed(support).matching(visit))
