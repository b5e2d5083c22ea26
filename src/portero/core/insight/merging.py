"""An estate with what a document names in place of what it has."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, TypeVar

from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import NOUNS, Estate
from portero.core.nouns.registry import AuthoredNoun
from portero.core.nouns.ruleset import Ruleset

Keyed = TypeVar("Keyed", bound=Ruleset | Assignment | ApplicationSet)


def keeping_others(before: Estate, document: Estate) -> Estate:
    """The estate with what the document names in place of what it has; all that the document does not name stays."""
    parts: dict[str, Any] = {noun.list: _merged(noun, before, document) for noun in NOUNS.values()}
    if "settings" not in document.model_fields_set:
        parts["settings"] = before.settings
    named = document.precedence
    parts["precedence"] = (*named, *(key for key in before.precedence if key not in named))
    return document.replacing(**parts)


def put_in_place(one: Keyed, objects: Sequence[Keyed]) -> tuple[Keyed, ...]:
    """The objects with one in place of that of the same key, or behind them."""
    kept = [one if other.key == one.key else other for other in objects]
    return tuple(kept if one in kept else [*kept, one])


def _merged(noun: AuthoredNoun, before: Estate, document: Estate) -> tuple[Any, ...]:
    own = noun.by_key(document)
    kept = [own.pop(noun.key_of(one), one) for one in noun.of(before)]
    return (*kept, *own.values())


def with_assignment(estate: Estate, key: str, **changed: Any) -> Estate:
    """The estate in which one assignment has other values. ValidationError where it may not have them."""

    def other(one: Assignment) -> Assignment:
        return Assignment.model_validate({**dict(one), **changed}) if one.key == key else one

    return estate.replacing(assignments=tuple(map(other, estate.assignments)))
