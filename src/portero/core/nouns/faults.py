"""What is wrong with a value, in our words: what it is, what is wanted, an example where that helps."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from difflib import get_close_matches
from typing import Any

_SHOWN = 64
_SAYS_OF = re.compile("(is|holds|has) |[“0-9-]|(nothing|true|false|a list|a mapping|this) is ")
"""How a fault begins that says something of what stands before it."""
_QUOTED = re.compile(r"'((?:[^'\\]|\\.)*)'")

PATTERNS = {
    r"^[a-z0-9][a-z0-9-]*$": "is no key: use lower-case letters, digits and “-”, as in quiet-link",
    r"^[0-9a-fA-F]{64}$": "is no SHA-256: that has 64 digits from 0 to 9 and a to f",
    r"^[0-9a-f]{64}$": "is no SHA-256: that has 64 digits from 0 to 9 and a to f",
    r"^[^/\s]+(/[^/\s]+)*$": "is no unit: name its parts, set apart by “/”, as in brackwater/ships",
    r"^([01][0-9]|2[0-3]):[0-5][0-9]$": "is no time of day; write it as in 18:00",
    r"^[0-9A-Z]{4}-[0-9A-Z]{4}$": "is no reference: that is two groups of four, as in 7KQ2-M4TD",
    r"^\S+$": "has a space in it, and no address has",
    r"^[A-Za-z0-9._@-]{1,64}$": "is no name of an administrator: use up to 64 letters, digits and . _ @ -",
}
"""What a text is not that does not have the form of a pattern."""


def fault_of(error: Mapping[str, Any]) -> str:
    """What is wrong, in words: of one entry of a ValidationError's `errors()`. It ends without a stop."""
    told = _WORDS.get(error["type"])
    if told is not None:
        return told(error.get("input"), error.get("ctx") or {})
    return str(error["msg"]).removeprefix("Value error, ")


def fault_at(path: Sequence[str | int], fault: str) -> str:
    """A fault with where it is: “members, all, 1: value “x” is not a list”. Numbers count from 1."""
    if not path:
        return fault
    words = [str(part + 1) if isinstance(part, int) else part.replace("_", " ") for part in path]
    name = words.pop() if isinstance(path[-1], str) else ""
    place = ": ".join(filter(None, (", ".join(words), name)))
    return f"{place} {fault}" if _SAYS_OF.match(fault) else f"{place}: {fault}"


def _shown(value: Any) -> str:
    if isinstance(value, str):
        return f"“{value[:_SHOWN]}{'…' if len(value) > _SHOWN else ''}”"
    if value is None:
        return "nothing"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | float):
        return str(value)[:_SHOWN]
    return "a list" if isinstance(value, list | tuple) else "a mapping" if isinstance(value, dict) else "this"


Told = Callable[[Any, Mapping[str, Any]], str]


def _wanted(what: str) -> Told:
    return lambda value, _context: f"{_shown(value)} is not {what}"


def _not_of_form(value: Any, context: Mapping[str, Any]) -> str:
    return f"{_shown(value)} {PATTERNS.get(context['pattern'], 'is not written as it has to be')}"


def _none_of(value: Any, context: Mapping[str, Any]) -> str:
    expected = str(context["expected"])
    words = [word.replace("\\'", "'") for word in _QUOTED.findall(expected)] or [expected]
    listed = ", ".join(words[:-1]) + (" or " if len(words) > 1 else "") + words[-1]
    near = get_close_matches(value, words, n=1) if isinstance(value, str) else []
    return f"{_shown(value)} is none of {listed}" + (f"; did you mean “{near[0]}”?" if near else "")


def _bounded(name: str, than: str) -> Told:
    return lambda value, context: f"{_shown(value)} is too {than}: {context[name]} at the {_MOST[than]}"


_MOST = {"little": "least", "much": "most"}


def _too_short(value: Any, context: Mapping[str, Any]) -> str:
    least = context["min_length"]
    return "is empty" if least == 1 else f"{_shown(value)} is too short: {least} letters at the least"


def _too_long(value: Any, context: Mapping[str, Any]) -> str:
    return f"{_shown(value)} is too long: {context['max_length']:,} letters at the most"


def _too_many(_value: Any, context: Mapping[str, Any]) -> str:
    return f"holds {context['actual_length'] or 'more'} entries: {context['max_length']:,} at the most"


def _too_few(_value: Any, context: Mapping[str, Any]) -> str:
    least = context["min_length"]
    return "is empty: name one at the least" if least == 1 else f"holds too few entries: {least} at the least"


_MOMENT = "a moment; write it as in 2026-12-01T08:00:00Z"
_DAY = "a day; write it as in 2026-12-01"
_NUMBER = "a whole number"
_WORDS: dict[str, Told] = {
    "missing": lambda _value, _context: "is missing",
    "extra_forbidden": lambda _value, _context: "is not known here",
    "string_pattern_mismatch": _not_of_form,
    "enum": _none_of,
    "literal_error": _none_of,
    "none_required": lambda value, _context: f"{_shown(value)} has no place here; leave it out",
    "union_tag_invalid": lambda _value, context: f"“{context['tag']}” is none of {context['expected_tags']}",
    "string_type": lambda value, _context: f"{_shown(value)} is not text; put it in quotes",
    "string_unicode": _wanted("text that can be written as UTF-8"),
    "string_too_short": _too_short,
    "string_too_long": _too_long,
    "too_long": _too_many,
    "too_short": _too_few,
    "greater_than_equal": _bounded("ge", "little"),
    "greater_than": lambda value, context: f"{_shown(value)} is too little: more than {context['gt']}",
    "less_than_equal": _bounded("le", "much"),
    "less_than": lambda value, context: f"{_shown(value)} is too much: less than {context['lt']}",
    **dict.fromkeys(("int_type", "int_parsing", "int_from_float", "int_parsing_size"), _wanted(_NUMBER)),
    **dict.fromkeys(("float_type", "float_parsing", "finite_number"), _wanted("a number")),
    **dict.fromkeys(("bool_type", "bool_parsing"), _wanted("true or false")),
    **dict.fromkeys(("list_type", "tuple_type", "set_type", "frozen_set_type"), _wanted("a list")),
    **dict.fromkeys(
        ("dict_type", "model_type", "model_attributes_type", "dataclass_type", "mapping_type"), _wanted("a mapping")
    ),
    **dict.fromkeys(
        (
            "datetime_type",
            "datetime_parsing",
            "datetime_from_date_parsing",
            "datetime_object_invalid",
            "timezone_aware",
        ),
        _wanted(_MOMENT),
    ),
    **dict.fromkeys(
        ("date_type", "date_parsing", "date_from_datetime_parsing", "date_from_datetime_inexact"), _wanted(_DAY)
    ),
    **dict.fromkeys(("time_type", "time_parsing"), _wanted("a time of day; write it as in 18:00")),
    **dict.fromkeys(("time_delta_type", "time_delta_parsing"), _wanted("a duration; write it as in P7D, or PT12H")),
    **dict.fromkeys(("url_parsing", "url_type", "url_scheme", "url_too_long"), _wanted("an address; write it whole")),
}
