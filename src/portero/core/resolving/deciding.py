"""Decide a visit on a compiled bundle."""

from __future__ import annotations

from collections.abc import Sequence

from portero.core.nouns.action import STRICTNESS
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.resolving.bundles import Bundle
from portero.core.resolving.ladder import NARROWNESS, Contender, Contest, contender, make_contest

_EMPTY = Contest((), (), ())


class Policy:
    """A bundle made ready to decide on: one contest for each category that some rule names."""

    __slots__ = ("__weakref__", "bundle", "contests", "winners")

    def __init__(self, bundle: Bundle) -> None:
        self.bundle = bundle
        self.contests = _contests(bundle)
        self.winners = {category: contest.winner for category, contest in self.contests.items()}

    def contest(self, category: str) -> Contest:
        """The contest for a category; an empty one where no rule names it."""
        return self.contests.get(category, _EMPTY)


def _categories_of(kind: str, value: str) -> Sequence[str]:
    if kind == "category":
        return (value,)
    if kind == "family":
        return [category.key for category in TAXONOMY.by_family[value].categories]
    return list(TAXONOMY.categories)


def _contests(bundle: Bundle) -> dict[str, Contest]:
    rank = {key: number for number, key in enumerate(bundle.groups)}
    competing: dict[str, list[Contender]] = {}
    logged: dict[str, list[tuple[int, int]]] = {}
    for place, assignment in enumerate(bundle.assignments):
        for rule in assignment.rules:
            for category in _categories_of(rule.selector_kind, rule.selector_value):
                if rule.action == "log":
                    logged.setdefault(category, []).append((place, rule.number))
                    continue
                competing.setdefault(category, []).append(
                    contender(
                        NARROWNESS[rule.selector_kind],
                        rank[assignment.target],
                        rule.action,
                        place,
                        rule.number,
                        assignment.mandatory,
                    )
                )
    return {
        category: make_contest(competing.get(category, ()), logged.get(category, ()))
        for category in TAXONOMY.categories
        if category in competing or category in logged
    }


def decide(policy: Policy, categories: Sequence[str]) -> Contender | None:
    """The rule that settles a visit to a host of these categories; None where nothing does, and it is allowed.

    Categories are settled one by one; the strictest winner is the verdict. Among equally strict ones the one
    named is the mandatory, then by the ladder.
    """
    best: Contender | None = None
    winners = policy.winners
    for category in categories:
        winner = winners.get(category)
        if winner is not None and (best is None or _before(winner, best)):
            best = winner
    return best


def _before(one: Contender, other: Contender) -> bool:
    strict, other_strict = STRICTNESS[one.verdict], STRICTNESS[other.verdict]
    if strict != other_strict:
        return strict > other_strict
    if one.mandatory != other.mandatory:
        return one.mandatory
    return one.strength() < other.strength()
