"""Rules as CSV: the same columns in and out, so that nothing is lost on the way."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from pydantic import ValidationError

from portero.core.nouns.base import rfc3339, unknown_word
from portero.core.nouns.faults import fault_of
from portero.core.nouns.rule import KEYS, Rule
from portero.formats.cells import guarded
from portero.formats.csv_rows import numbered_rows
from portero.formats.feed_files import RefusedLine

COLUMNS = ("selector", "value", "exact", "action", "name", "note", "valid_until", "reading")


def write_rules(rules: Iterable[Rule]) -> Iterator[str]:
    """The rules as CSV, line by line, with a heading."""
    yield _line(COLUMNS)
    for rule in rules:
        yield _line([guarded(cell) for cell in _cells(rule)])


def _cells(rule: Rule) -> Iterator[str]:
    kind = next(name for name in KEYS if getattr(rule, name) is not None)
    yield kind
    value = getattr(rule, kind)
    if kind == "suitability":
        value = rule.selector.value
    yield "" if kind == "everything" else str(value)
    yield "yes" if rule.exact else ("" if rule.exact is None else "no")
    yield rule.action.value
    yield rule.name or ""
    yield rule.note or ""
    yield rfc3339(rule.valid_until) if rule.valid_until else ""
    yield rule.reading or ""


def _line(cells: Iterable[str]) -> str:
    text = io.StringIO()
    csv.writer(text, lineterminator="\n").writerow(cells)
    return text.getvalue()


def read_rules(data: Iterable[bytes], action: str | None = None) -> Iterator[tuple[int, Rule] | RefusedLine]:
    """The rules of a CSV file with the number of the line that each begins on; what cannot be used, by number.

    The heading names the columns, in any order; only `selector` and `value` must be there. `action` is for those that
    have none. BadFeed where the file as a whole is none.
    """
    for row in numbered_rows(data, COLUMNS, ("selector", "value")):
        yield row if isinstance(row, RefusedLine) else _rule(*row, action)


def _rule(number: int, cells: Mapping[str, str], action: str | None) -> tuple[int, Rule] | RefusedLine:
    try:
        return number, Rule.model_validate(_given(cells, action))
    except ValidationError as problem:
        first = problem.errors()[0]
        where = str(first["loc"][0]) if first["loc"] else ""
        return RefusedLine(
            number, f"{where}: {fault_of(first)}" if where in ("action", "valid_until") else fault_of(first)
        )
    except ValueError as problem:
        return RefusedLine(number, str(problem))


def _given(cells: Mapping[str, str], action: str | None) -> dict[str, Any]:
    kind, value = cells["selector"].strip(), cells.get("value", "")
    if kind not in KEYS:
        raise ValueError(unknown_word("selector", kind, KEYS))
    given: dict[str, Any] = {kind: value}
    if kind == "everything":
        given[kind] = True
    if kind == "suitability":
        given[kind] = _bounds(value.strip())
    exact = cells.get("exact", "").strip().lower()
    if exact:
        if exact not in ("yes", "no"):
            raise ValueError(f"“{exact[:20]}” under “exact” is neither yes nor no")
        given["exact"] = exact == "yes"
    given["action"] = cells.get("action", "").strip() or action
    for name in ("name", "note", "valid_until", "reading"):
        if text := cells.get(name, ""):
            given[name] = text
    return given


def _bounds(text: str) -> dict[str, int]:
    low, dots, high = text.partition("..")
    if not dots or not (low + high).isdigit():
        raise ValueError(f"“{text[:40]}” is no span of suitability; write it as in 0..25")
    return {name: int(bound) for name, bound in (("from", low), ("to", high)) if bound}
