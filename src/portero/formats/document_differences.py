"""Two states of an object as documents, and what differs between them, line by line."""

from __future__ import annotations

from collections.abc import Iterator
from difflib import unified_diff
from typing import Any

from portero.core import sentences
from portero.core.nouns.revision import Change, ToldChange
from portero.formats.estate_document import write_object

MOST_LINES = 4_000


def told_change(change: Change) -> ToldChange:
    """The change in words, and as a unified difference of YAML."""
    return ToldChange(
        **dict(change),
        sentence=sentences.change_sentence(change),
        details=sentences.change_details(change),
        difference="".join(_difference(change)),
    )


def _difference(change: Change) -> Iterator[str]:
    lines = unified_diff(_lines(change.before), _lines(change.after), "before", "after", n=3)
    for number, line in enumerate(lines):
        if number >= MOST_LINES:
            yield "…\n"
            return
        yield line


def _lines(document: dict[str, Any] | None) -> list[str]:
    return write_object(document).splitlines(keepends=True) if document else []
