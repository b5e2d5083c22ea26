"""A named list of rules of one kind. It says what, never where."""

from __future__ import annotations

from collections import Counter
from typing import Annotated, Any, ClassVar, Self

from pydantic import Field, SerializerFunctionWrapHandler, field_serializer, model_validator

from portero.core.by_identity import ByIdentity
from portero.core.nouns.action import Action
from portero.core.nouns.address_list import INCLUDING, Include, IncludedRule, IncludingKind
from portero.core.nouns.base import Key, Name, Noun
from portero.core.nouns.ground import Ground
from portero.core.nouns.layer import LayerName
from portero.core.nouns.registry import Authored, Declared, shows
from portero.core.nouns.rule import SELECTORS, Rule, RulesetKind
from portero.core.nouns.selector import Selector

MAX_RULES = 200_000
MAX_INCLUDES = 50
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
    includes: Annotated[
        tuple[Include, ...],
        Field(max_length=MAX_INCLUDES, description="Address lists whose addresses it has as rules behind its own."),
    ] = ()

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
        self._check_includes()
        return self

    @field_serializer("rules", mode="wrap")
    def _written(self, _rules: tuple[Rule, ...], write: SerializerFunctionWrapHandler) -> Any:
        # what address lists bring is written down there
        return write(self.own_rules)

    @property
    def own_rules(self) -> tuple[Rule, ...]:
        """Its rules without those that address lists bring."""
        return _own_rules.of(self)

    @property
    def included(self) -> Counter[str]:
        """How many of its rules each address list brings."""
        rules = self.rules if self.includes else ()
        return Counter(rule.address_list for rule in rules if isinstance(rule, IncludedRule))

    def address_list_of(self, number: int) -> str | None:
        """The address list that brings the rule of a number, from 1; None where it is the ruleset's own."""
        rule = self.rules[number - 1]
        return rule.address_list if isinstance(rule, IncludedRule) else None

    @property
    def including(self) -> IncludingKind:
        """Its kind, as one that includes address lists."""
        return "site" if self.kind == "site" else "indicator"

    def _check_includes(self) -> None:
        if self.includes and (self.kind not in INCLUDING or self.feed is not None):
            whose = "one that a feed brings" if self.feed else f"one of kind {self.kind}"
            raise ValueError(f"rulesets of kind {' or '.join(INCLUDING)} include address lists, and not {whose}")
        seen: set[str] = set()
        for number, include in enumerate(self.includes, start=1):
            self._check_action(f"include {number}", include.action)
            if include.address_list in seen:
                raise ValueError(f"the address list “{include.address_list}” is included twice; keep one")
            seen.add(include.address_list)

    def _check(self, number: int, rule: Rule) -> None:
        kind = rule.selector.kind
        if kind not in SELECTORS[self.kind]:
            fitting = next(of for of, names in SELECTORS.items() if kind in names)
            raise ValueError(
                f"rule {number} names {kind}, which belongs in a ruleset of kind {fitting}; this one is of kind"
                f" {self.kind} and takes {', '.join(SELECTORS[self.kind])}"
            )
        self._check_action(f"rule {number}", rule.action)
        if self.feed is not None and rule.action is Action.ALLOW:
            raise ValueError(f"rule {number} allows, and what a feed brings in never does; block, warn or log")

    def _check_action(self, where: str, action: Action) -> None:
        allowed = _ACTIONS.get(self.kind, tuple(Action))
        if action not in allowed:
            raise ValueError(f"{where}: rules of kind {self.kind} {' or '.join(allowed)}, not {action}")


def _without_included(ruleset: Ruleset) -> tuple[Rule, ...]:
    own = tuple(rule for rule in ruleset.rules if not isinstance(rule, IncludedRule))
    return ruleset.rules if len(own) == len(ruleset.rules) else own


_own_rules = ByIdentity(_without_included)


@shows(Ruleset, alone=False)
class RulesetSummary(Noun):
    """A ruleset as lists show it: its rules only counted, as there may be many."""

    key: Key
    name: Name
    kind: RulesetKind
    ground: Ground | None = None
    feed: Key | None = None
    rule_count: Annotated[int, Field(description="How many rules it has, with those that address lists bring.")]
    includes: tuple[Include, ...] = ()
    included: Annotated[dict[Key, int], Field(description="How many rules each address list brings.")] = {}
    sentence: Annotated[str, Field(description="What the ruleset does, in words.")]
    assignments: Annotated[tuple[Key, ...], Field(description="The assignments that use it.")] = ()
    version: Annotated[int, Field(description="The revision that last changed it; also its ETag.")]


@shows(Ruleset, listed=False)
class RulesetState(RulesetSummary):
    """A ruleset with its own rules. They were checked when they were saved."""

    rules: Annotated[tuple[Rule, ...], Field(max_length=MAX_RULES)] = ()


class Sentence(Noun):
    """A generated sentence."""

    sentence: str
