"""Changes of long rulesets, kept short: only the rules that differ, with where they stand."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from itertools import takewhile
from typing import Any, NamedTuple

LONG = 500
"""Rulesets with fewer rules than that, before and after together, are kept whole."""

Document = Mapping[str, Any]


class Places(NamedTuple):
    """Where the rules that differ stand, from 0: before in the list as it was, after in the list as it is."""

    before: Sequence[int]
    after: Sequence[int]


class Folded(NamedTuple):
    """A ruleset before and after, each with nothing but the rules that the other has not just so; and their places."""

    before: dict[str, Any]
    after: dict[str, Any]
    places: Places


def fold(before: Document, after: Document) -> Folded | None:
    """The change, kept short; None where that is not worth it, or the rules that stay have changed their order."""
    old, new = before.get("rules", ()), after.get("rules", ())
    if len(old) + len(new) < LONG:
        return None
    # nearly all of a long one is what it was: only between what is alike at both ends it is looked at more closely
    first = _alike(zip(old, new, strict=False))
    last = _alike(zip(reversed(old[first:]), reversed(new[first:]), strict=False))
    olds, news = (
        [json.dumps(rule, sort_keys=True) for rule in rules[first : len(rules) - last]] for rules in (old, new)
    )
    both = set(olds) & set(news)
    if [one for one in olds if one in both] != [one for one in news if one in both]:
        return None
    places = Places(*([place for place, one in enumerate(own, first) if one not in both] for own in (olds, news)))
    return Folded(
        {**before, "rules": [old[place] for place in places.before]},
        {**after, "rules": [new[place] for place in places.after]},
        places,
    )


def _alike(pairs: Iterable[tuple[Any, Any]]) -> int:
    """In how many pairs, from the first on, both are the same."""
    return sum(1 for _ in takewhile(lambda pair: pair[0] == pair[1], pairs))


def unfold(before: Document, rules: Sequence[Any], places: Places) -> dict[str, Any]:
    """The ruleset as it was whole, of what `fold` left of it and the rules as they were right after the change."""
    gone = set(places.after)
    kept = [rule for place, rule in enumerate(rules) if place not in gone]
    for place, rule in zip(places.before, before["rules"], strict=True):
        kept.insert(place, rule)
    return {**before, "rules": kept}
