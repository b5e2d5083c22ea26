"""A named set of devices, by a membership rule."""

from __future__ import annotations

from enum import StrEnum
from ipaddress import ip_network
from typing import Annotated, Any, Self

from pydantic import Discriminator, Field, Tag, model_validator

from portero.core.nouns.base import Key, Name, Noun, Text

WHOLE_FLEET = "whole-fleet"
UNCLAIMED = "unclaimed"
BUILT_IN = (UNCLAIMED, WHOLE_FLEET)
"""The groups that are always there, weakest last."""

FIELDS = ("hostname", "kind", "unit", "os.family", "os.version", "addresses", "place", "zone")
"""The facts a condition may name; beside them `labels.NAME`."""


class Op(StrEnum):
    """How a condition compares. Text folds case."""

    IS = "is"
    ONE_OF = "one_of"
    STARTS_WITH = "starts_with"
    ENDS_WITH = "ends_with"
    CONTAINS = "contains"
    LIKE = "like"
    UNDER = "under"
    WITHIN = "within"


class Condition(Noun):
    """One test on one fact: `{field, op, value}`."""

    field: Text
    op: Op
    value: Text | Annotated[tuple[Text, ...], Field(min_length=1, max_length=1000)]

    @model_validator(mode="after")
    def _fits(self) -> Self:
        if self.field not in FIELDS and not (self.field.startswith("labels.") and len(self.field) > 7):
            raise ValueError(f"“{self.field}” is not a fact to test; known are {', '.join(FIELDS)} and labels.NAME")
        if isinstance(self.value, tuple) != (self.op is Op.ONE_OF):
            raise ValueError(f"“{self.op}” takes {'a list' if self.op is Op.ONE_OF else 'a single value'}")
        if self.op is Op.UNDER and self.field != "unit":
            raise ValueError("“under” goes with the field unit")
        if (self.op is Op.WITHIN) != (self.field == "addresses"):
            raise ValueError("addresses are compared with “within”, and nothing else is")
        if self.op is Op.WITHIN:
            ip_network(str(self.value), strict=False)
        return self


def _branch(value: Any) -> str:
    has_field = isinstance(value, Condition) or (isinstance(value, dict) and ("field" in value or "op" in value))
    return "condition" if has_field else "rule"


Branch = Annotated[
    Annotated[Condition, Tag("condition")] | Annotated["MembershipRule", Tag("rule")],
    Discriminator(_branch),
]
Branches = Annotated[tuple[Branch, ...], Field(min_length=1, max_length=200)]


class MembershipRule(Noun):
    """`all`, `any`, `none` over conditions or further rules; where several are given, each must hold."""

    all: Branches | None = None
    any: Branches | None = None
    none: Branches | None = None

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        if self.all is None and self.any is None and self.none is None:
            raise ValueError("a membership rule needs “all”, “any” or “none” with at least one condition")
        return self


class Group(Noun):
    """A named set of devices. Without a membership rule it holds nobody."""

    key: Key
    name: Name | None = None
    members: MembershipRule | None = None

    @model_validator(mode="after")
    def _not_built_in(self) -> Self:
        if self.key in BUILT_IN:
            raise ValueError(f"“{self.key}” is built in; choose another key")
        return self


class GroupSummary(Noun):
    """A group as a list shows it: with its place in the precedence and how many devices it holds now."""

    key: Key
    name: Name
    built_in: bool
    precedence: Annotated[int, Field(description="1 is the strongest.")]
    devices: Annotated[int, Field(description="How many devices are in it now.")]
    members: MembershipRule | None = None
    sentence: Annotated[str, Field(description="The membership rule in words.")]
    version: Annotated[int | None, Field(description="The revision that last changed it; also its ETag.")] = None
