"""What feeds bring, in the rulesets that it is meant for.

An estate as it counts has it in its rulesets; an estate as it is written down has not, as nobody here authors it.
"""

from __future__ import annotations

from collections.abc import Mapping

from portero.core.nouns.estate import Estate
from portero.core.nouns.rule import SELECTORS, Rule
from portero.core.nouns.ruleset import Ruleset

Contents = Mapping[str, Mapping[str, tuple[Rule, ...]]]
"""By feed and kind of ruleset, the rules that it brings."""


def filled(estate: Estate, contents: Contents) -> Estate:
    """The estate with what feeds bring in the rulesets that name them."""
    return _with_rules(estate, contents, brought=True)


def emptied(estate: Estate, contents: Contents) -> Estate:
    """The estate without what feeds bring."""
    return _with_rules(estate, contents, brought=False)


def _with_rules(estate: Estate, contents: Contents, brought: bool) -> Estate:
    if not any(ruleset.feed in contents for ruleset in estate.rulesets):
        return estate
    return estate.replacing(rulesets=tuple(_ruleset(ruleset, contents, brought) for ruleset in estate.rulesets))


def _ruleset(ruleset: Ruleset, contents: Contents, brought: bool) -> Ruleset:
    if ruleset.feed is None or ruleset.feed not in contents:
        return ruleset
    rules = contents[ruleset.feed].get(ruleset.kind, ()) if brought else ()
    # what a feed brings was checked when it was read
    return ruleset if ruleset.rules is rules else ruleset.model_copy(update={"rules": rules})


def by_kind(rules: tuple[Rule, ...]) -> dict[str, tuple[Rule, ...]]:
    """Rules by the kind of ruleset that they belong in: programs apart from visits."""
    return {
        kind: tuple(rule for rule in rules if rule.selector.kind in SELECTORS[kind])
        for kind in ("indicator", "startup")
    }
