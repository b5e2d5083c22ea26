"""A named list of rules of one kind. It says what, never where."""

from __future__ import annotations

from typing import Annotated, ClassVar, Self

from pydantic import Field, model_validator

from portero.core.nouns.action import Action
from portero.core.nouns.base import Key, Name, Noun
from portero.core.nouns.ground import Ground
from portero.core.nouns.layer import LayerName
from portero.core.nouns.registry import Authored, Declared, shows
from portero.core.nouns.rule import SELECTORS, Rule, RulesetKind
from portero.core.nouns.selector import Selector

MAX_RULES = 200_000
FED: tuple[RulesetKind, ...] = ("indicator", "startup")
"""The kinds of rulesets that feeds bring in: indicators, and the hashes of files that come with them."""
KINDS_OF_LAYER: dict[LayerName, tuple[RulesetKind, ...]] = {
    "filter": ("category", "indicator"),
    "browser": ("site",),
    "startup": ("startup",),
}
"""What each layer enforces."""
_ACTIONS: dict[RulesetKind, tuple[Action, ...]] = {"site": (Action.ALLOW, Action.BLOCK)}


class Ruleset(Authored):
    """A named list of rules of one kind. One with a `feed` is brought in from outside; it never allows."""

    declared: ClassVar = Declared("ruleset", "rulesets", about="Named lists of rules of one kind.")
    key: Key
    name: Name | None = None
    kind: RulesetKind
    ground: Ground | None = None
    feed: Annotated[Key | None, Field(description="The feed that brings it in.")] = None
    rules: Annotated[tuple[Rule, ...], Field(max_length=MAX_RULES)] = ()

    @model_validator(mode="after")
    def _fits(self) -> Self:
        if self.feed is not None and self.kind not in FED:
            raise ValueError(f"a feed brings in indicators and programs only, and “{self.key}” is of kind {self.kind}")
        seen: dict[Selector, int] = {}
        for number, rule in enumerate(self.rules, start=1):
            self._check(number, rule)
            first = seen.setdefault(rule.selector, number)
            if first != number:
                raise ValueError(f"rules {first} and {number} both name {rule.selector}; keep one of them")
        return self

    def _check(self, number: int, rule: Rule) -> None:
        kind = rule.selector.kind
        if kind not in SELECTORS[self.kind]:
            fitting = next(of for of, names in SELECTORS.items() if kind in names)
            raise ValueError(
                f"rule {number} names {kind}, which belongs in a ruleset of kind {fitting}; this one is of kind"
                f" {self.kind} and takes {', '.join(SELECTORS[self.kind])}"
            )
        allowed = _ACTIONS.get(self.kind, tuple(Action))
        if rule.action not in allowed:
            raise ValueError(f"rule {number}: rules of kind {self.kind} {' or '.join(allowed)}, not {rule.action}")
        if self.feed is not None and rule.action is Action.ALLOW:
            raise ValueError(f"rule {number} allows, and what a feed brings in never does; block, warn or log")


@shows(Ruleset, alone=False)
class RulesetSummary(Noun):
    """A ruleset as lists show it: its rules only counted, as there may be many."""

    key: Key
    name: Name
    kind: RulesetKind
    ground: Ground | None = None
    feed: Key | None = None
    rule_count: Annotated[int, Field(description="How many rules it has.")]
    sentence: Annotated[str, Field(description="What the ruleset does, in words.")]
    assignments: Annotated[tuple[Key, ...], Field(description="The assignments that use it.")] = ()
    version: Annotated[int, Field(description="The revision that last changed it; also its ETag.")]


@shows(Ruleset, listed=False)
class RulesetState(RulesetSummary):
    """A ruleset with its rules. They were checked when they were saved."""

    rules: Annotated[tuple[Rule, ...], Field(max_length=MAX_RULES)] = ()


class Sentence(Noun):
    """A generated sentence."""

    sentence: str
