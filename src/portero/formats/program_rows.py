"""Programs as CSV: what a feed of programs is written in."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from pydantic import ValidationError

from portero.core.nouns.device import Application
from portero.core.nouns.faults import fault_of
from portero.core.nouns.program import ProgramCategory
from portero.formats.csv_rows import numbered_rows
from portero.formats.feed_files import RefusedLine

COLUMNS = ("product", "vendor", "version", "category", "file", "signer", "certificate", "sha256")
_CATEGORIES = frozenset(ProgramCategory)


def read_programs(data: Iterable[bytes]) -> Iterator[tuple[int, Application, str | None] | RefusedLine]:
    """The programs with the number of their line; with a word for what it is for that is none of ours, it has no
    category, and the word comes along. The heading names the columns, of which only `product` must be there. BadFeed.
    """
    for row in numbered_rows(data, COLUMNS, ("product",)):
        yield row if isinstance(row, RefusedLine) else _program(*row)


def _program(number: int, cells: Mapping[str, str]) -> tuple[int, Application, str | None] | RefusedLine:
    given = {name: text for name, cell in cells.items() if name and (text := cell.strip())}
    if "product" not in given:
        return RefusedLine(number, "the line names no product")
    word = given.pop("category", "").lower()
    is_known = word in _CATEGORIES
    try:
        program = Application.model_validate({**given, **({"category": word} if is_known else {})})
    except ValidationError as problem:
        first = problem.errors()[0]
        return RefusedLine(number, f"{first['loc'][0]}: {fault_of(first)}")
    return number, program, None if is_known or not word else word[:100]
