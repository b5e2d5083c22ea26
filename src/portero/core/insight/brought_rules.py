"""What feeds and address lists bring, in the rulesets that name them.

An estate as it counts has it in its rulesets, behind their own rules; an estate as it is written down has not, as
nobody writes it there.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping

from portero.core.nouns.address_list import AddressList, IncludedRule
from portero.core.nouns.estate import Estate
from portero.core.nouns.rule import SELECTORS, Rule
from portero.core.nouns.ruleset import Ruleset

Contents = Mapping[str, Mapping[str, tuple[Rule, ...]]]
"""By feed and kind of ruleset, the rules that it brings."""


def filled(estate: Estate, contents: Contents, gone: Collection[str] = ()) -> Estate:
    """The estate with what feeds and its address lists bring in the rulesets that name them, and nothing of the feeds
    that are gone.
    """
    lists = estate.address_list_by_key

    def brought(ruleset: Ruleset) -> Ruleset:
        if ruleset.feed is None:
            return with_included(ruleset, lists)
        if ruleset.feed in contents:
            return _with(ruleset, contents[ruleset.feed].get(ruleset.kind, ()))
        return _with(ruleset, ()) if ruleset.feed in gone else ruleset

    return _replaced(estate, list(map(brought, estate.rulesets)))


def emptied(estate: Estate, contents: Contents) -> Estate:
    """The estate without what feeds and address lists bring."""
    return _replaced(estate, [_with(one, () if one.feed in contents else one.own_rules) for one in estate.rulesets])


def with_included(ruleset: Ruleset, lists: Mapping[str, AddressList]) -> Ruleset:
    """The ruleset with what its address lists bring, and nothing of others."""
    own = ruleset.own_rules
    return _with(ruleset, (*own, *_included(ruleset, own, lists)) if ruleset.includes else own)


def _replaced(estate: Estate, rulesets: list[Ruleset]) -> Estate:
    if all(new is old for new, old in zip(rulesets, estate.rulesets, strict=True)):
        return estate
    return estate.replacing(rulesets=tuple(rulesets))


def _with(ruleset: Ruleset, rules: tuple[Rule, ...]) -> Ruleset:
    had = ruleset.rules
    if rules is had or (len(rules) == len(had) and all(new is old for new, old in zip(rules, had, strict=True))):
        return ruleset
    # what is brought was checked when it was read
    return ruleset.model_copy(update={"rules": rules})


def _included(ruleset: Ruleset, own: tuple[Rule, ...], lists: Mapping[str, AddressList]) -> Iterator[IncludedRule]:
    """What its address lists bring: what is named before, by the ruleset itself or an earlier list, counts."""
    seen = {rule.selector for rule in own}
    for include in ruleset.includes:
        found = lists.get(include.address_list)
        for rule in found.rules(ruleset.including, include) if found is not None else ():
            if rule.selector not in seen:
                seen.add(rule.selector)
                yield rule


def by_kind(rules: tuple[Rule, ...]) -> dict[str, tuple[Rule, ...]]:
    """Rules by the kind of ruleset that they belong in: programs apart from visits."""
    return {
        kind: tuple(rule for rule in rules if rule.selector.kind in SELECTORS[kind])
        for kind in ("indicator", "startup")
    }
