"""An estate with what a document names in place of what it has."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from portero.core.nouns.estate import KEYED, Estate

_BY_OTHER_KEYS = {"corrections": "host", "layer_modes": "group", "coverage": "key"}


def keeping_others(before: Estate, document: Estate) -> Estate:
    """The estate with what the document names in place of what it has; all that the document does not name stays."""
    parts: dict[str, Any] = {}
    for attribute, by in {**dict.fromkeys(KEYED, "key"), **_BY_OTHER_KEYS}.items():
        parts[attribute] = _merged(getattr(before, attribute), getattr(document, attribute), by)
    if "settings" not in document.model_fields_set:
        parts["settings"] = before.settings
    named = document.precedence
    parts["precedence"] = (*named, *(key for key in before.precedence if key not in named))
    return document.replacing(**parts)


def _merged(before: Sequence[Any], named: Sequence[Any], by: str) -> tuple[Any, ...]:
    own = {getattr(one, by): one for one in named}
    kept = [own.pop(getattr(one, by), one) for one in before]
    return (*kept, *own.values())
