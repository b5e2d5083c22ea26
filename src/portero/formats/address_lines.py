"""Addresses as people have them in files: one a line, in any column of text, or the first column of CSV."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Iterator

_HEADINGS = frozenset(("address", "domain", "host", "hostname", "ip", "pattern", "site", "url", "value"))


def read_addresses(text: str, is_csv: bool = False) -> list[str]:
    """The addresses that stand in a text, each once, in their order; what follows a `#` that begins a word is left out.
    Of CSV it is the first column, without its heading.
    """
    words = _first_column(text) if is_csv else _words(text.splitlines())
    return list(dict.fromkeys(words))


def _words(lines: Iterable[str]) -> Iterator[str]:
    for line in lines:
        for word in line.split():
            if word.startswith("#"):
                break
            if address := word.strip(",;"):
                yield address


def _first_column(text: str) -> Iterator[str]:
    rows = csv.reader(text.splitlines())
    for number, row in enumerate(rows):
        cell = row[0].strip() if row else ""
        if cell and not cell.startswith("#") and not (number == 0 and cell.casefold() in _HEADINGS):
            yield cell
