"""Rows of CSV whose heading names the columns: each with the number of its line, what cannot be read by number too."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Iterator, Sequence

from portero.core.nouns.base import unknown_word
from portero.formats.cells import unguarded
from portero.formats.feed_files import BadFeed, RefusedLine, lines_of, unpacked

MAX_BYTES = 200_000_000


def numbered_rows(
    data: Iterable[bytes], columns: Sequence[str], needed: Iterable[str]
) -> Iterator[tuple[int, dict[str, str]] | RefusedLine]:
    """The rows by their columns, in any order, of which only those `needed` must be there. BadFeed where the file as a
    whole is none.
    """
    refused: list[RefusedLine] = []
    reader = csv.reader(_texts(data, refused))
    heading: list[str] | None = None
    while True:
        began = reader.line_num + 1
        try:
            cells = next(reader, None)
        except csv.Error as problem:
            yield RefusedLine(began, f"not CSV: {problem}")
            continue
        yield from refused
        refused.clear()
        if cells is None:
            return
        if not any(cells):
            continue
        if heading is None:
            heading = _heading(cells, columns, needed)
            continue
        yield began, dict(zip(heading, map(unguarded, cells), strict=False))


def _texts(data: Iterable[bytes], refused: list[RefusedLine]) -> Iterator[str]:
    """The lines as text; in place of one that cannot be read an empty one, so that numbers stay right."""
    for _, text in lines_of(unpacked(data, MAX_BYTES)):
        if isinstance(text, RefusedLine):
            refused.append(text)
            yield "\n"
        else:
            yield text + "\n"


def _heading(cells: list[str], columns: Sequence[str], needed: Iterable[str]) -> list[str]:
    names = [cell.strip().lower() for cell in cells]
    if not set(needed) <= set(names):
        raise BadFeed(f"the first line must name the columns: {','.join(columns)}")
    for name in names:
        if name and name not in columns:
            raise BadFeed(unknown_word("column", name, columns))
    return names
