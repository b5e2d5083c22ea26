"""The category index as CSV: a host and its categories a line, `host,category category`."""

from __future__ import annotations

import csv
import io
from importlib import resources

from portero.core.digests import digest_of
from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.base import unknown_word
from portero.core.nouns.urls import normal_site
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.formats.places import BadDocument, DocumentProblem

SHIPPED_INDEX = resources.files("portero.formats") / "category_index.csv"
"""The small index that ships, made-up hosts only, until feeds bring a bigger one."""


def read_index(data: bytes) -> MemoryIndex:
    """A category index from CSV. The header line `host,categories` may be left out; several categories are set
    apart by spaces or ';'. BadDocument with every bad line by number.
    """
    entries: dict[str, tuple[str, ...]] = {}
    problems: list[DocumentProblem] = []
    reader = csv.reader(io.StringIO(data.decode("utf-8-sig", errors="replace"), newline=""))
    try:
        for row in reader:
            if not row or row[0].startswith("#") or [cell.strip() for cell in row] == ["host", "categories"]:
                continue
            try:
                host, categories = _entry(row)
            except ValueError as problem:
                problems.append(DocumentProblem(reader.line_num, 1, (), str(problem)))
                continue
            entries[host] = tuple(sorted({*entries.get(host, ()), *categories}))
    except csv.Error as problem:
        problems.append(DocumentProblem(reader.line_num, 1, (), f"not CSV: {problem}"))
    if problems:
        raise BadDocument(problems)
    return MemoryIndex(entries, digest_of(data))


def _entry(row: list[str]) -> tuple[str, list[str]]:
    if len(row) < 2:
        raise ValueError("a line needs a host and its categories, set apart by a comma")
    categories = [word for cell in row[1:] for word in cell.replace(";", " ").split()]
    for category in categories:
        if category not in TAXONOMY.categories:
            raise ValueError(unknown_word("category", category, TAXONOMY.categories))
    if not categories:
        raise ValueError(f"“{row[0][:80]}” has no category")
    return normal_site(row[0]), categories
