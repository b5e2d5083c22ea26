"""A named list of rules of one kind. It says what, never where."""

from __future__ import annotations

from typing import Annotated, Literal, NamedTuple, Self

from pydantic import Field, field_validator, model_validator

from portero.core.nouns.action import Action
from portero.core.nouns.base import Key, Name, Note, Noun, unknown_word
from portero.core.nouns.web_taxonomy import TAXONOMY


class Selector(NamedTuple):
    """What a rule matches: `kind` is category, family or everything; `value` a key, empty for everything."""

    kind: str
    value: str

    def __str__(self) -> str:
        return f"{self.kind} {self.value}" if self.value else self.kind


class CategoryRule(Noun):
    """One web category, one family or everything, and what to do about it."""

    category: Key | None = None
    family: Key | None = None
    everything: Literal[True] | None = None
    action: Action
    name: Name | None = None
    note: Note | None = None

    @field_validator("category")
    @classmethod
    def _known_category(cls, value: str | None) -> str | None:
        if value is not None and value not in TAXONOMY.categories:
            raise ValueError(unknown_word("category", value, TAXONOMY.categories))
        return value

    @field_validator("family")
    @classmethod
    def _known_family(cls, value: str | None) -> str | None:
        if value is not None and value not in TAXONOMY.by_family:
            raise ValueError(unknown_word("family", value, TAXONOMY.by_family))
        return value

    @model_validator(mode="after")
    def _one_selector(self) -> Self:
        if sum(field is not None for field in (self.category, self.family, self.everything)) != 1:
            raise ValueError("a rule names exactly one of category, family or everything")
        return self

    @property
    def selector(self) -> Selector:
        """What it matches, normalised: within a ruleset a rule is known by it."""
        if self.category is not None:
            return Selector("category", self.category)
        if self.family is not None:
            return Selector("family", self.family)
        return Selector("everything", "")


class Ruleset(Noun):
    """A named list of rules of one kind."""

    key: Key
    name: Name | None = None
    kind: Literal["category"]
    rules: Annotated[tuple[CategoryRule, ...], Field(max_length=1000)] = ()

    @model_validator(mode="after")
    def _distinct_selectors(self) -> Self:
        seen: dict[Selector, int] = {}
        for number, rule in enumerate(self.rules, start=1):
            first = seen.setdefault(rule.selector, number)
            if first != number:
                raise ValueError(f"rules {first} and {number} both name {rule.selector}; keep one of them")
        return self


class RulesetSummary(Noun):
    """A ruleset as lists and pages show it."""

    key: Key
    name: Name
    kind: str
    rules: tuple[CategoryRule, ...]
    sentence: Annotated[str, Field(description="What the ruleset does, in words.")]
    assignments: Annotated[tuple[Key, ...], Field(description="The assignments that use it.")] = ()
    version: Annotated[int, Field(description="The revision that last changed it; also its ETag.")]


class Sentence(Noun):
    """A generated sentence."""

    sentence: str
