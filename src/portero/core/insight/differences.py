"""What differs between two states of an estate, object by object."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from portero.core.nouns.base import Noun
from portero.core.nouns.coverage import CoverageRow
from portero.core.nouns.estate import Estate
from portero.core.nouns.revision import Change

NOUNS = {
    "group": ("groups", "key"),
    "schedule": ("schedules", "key"),
    "application set": ("application_sets", "key"),
    "ruleset": ("rulesets", "key"),
    "assignment": ("assignments", "key"),
    "notice": ("notices", "key"),
    "correction": ("corrections", "host"),
    "service": ("services", "key"),
    "layer modes": ("layer_modes", "group"),
    "coverage row": ("coverage", "key"),
    "probe set": ("probe_sets", "key"),
    "feed": ("feeds", "key"),
}
"""The estate's list of each noun, and what names an object in it."""
_SINGLES = ("precedence", "settings")
"""Parts of an estate that there is one of; their change carries the part under its own name."""


def document_of(noun: Noun) -> dict[str, Any]:
    """The noun as it stands in an estate document: JSON values, nothing that was left out."""
    return noun.model_dump(mode="json", exclude_none=True)


def named(noun: str, document: Mapping[str, Any]) -> str:
    """What names an object of this noun, read from its document; a coverage row is named by three of its fields."""
    by = NOUNS[noun][1]
    return str(document[by] if by in document else CoverageRow.model_validate(document).key)


def differences(before: Estate, after: Estate) -> Iterator[Change]:
    """Every object that `after` makes, alters or removes."""
    for name, (attribute, by) in NOUNS.items():
        yield from _of_kind(name, by, getattr(before, attribute), getattr(after, attribute))
    old, new = (estate.model_dump(mode="json", include=set(_SINGLES)) for estate in (before, after))
    for name in _SINGLES:
        if old[name] != new[name]:
            single: Any = name
            yield Change(noun=single, key=name, verb="changed", before={name: old[name]}, after={name: new[name]})


def _of_kind(name: Any, by: str, before: Sequence[Noun], after: Sequence[Noun]) -> Iterator[Change]:
    old, new = ({getattr(noun, by): noun for noun in nouns} for nouns in (before, after))
    for key, noun in new.items():
        was = old.get(key)
        if was is None:
            yield Change(noun=name, key=key, verb="created", after=document_of(noun))
        elif was is not noun and was != noun:
            yield Change(noun=name, key=key, verb="changed", before=document_of(was), after=document_of(noun))
    for key, noun in old.items():
        if key not in new:
            yield Change(noun=name, key=key, verb="removed", before=document_of(noun))
