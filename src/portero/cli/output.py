"""Answers on standard output: aligned tables that fit 100 columns, JSON, CSV. Colour only on a terminal.

What draws is loaded where something is drawn: an answer as JSON needs none of it.
"""

from __future__ import annotations

import csv
import json
import sys
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from pydantic import BaseModel

from portero.core.nouns.base import rfc3339
from portero.formats.cells import guarded

if TYPE_CHECKING:
    from rich.console import Console
    from rich.padding import Padding
    from rich.table import Table
    from rich.text import Text

WIDTH = 100
_STYLES = {"allow": "cyan", "warn": "yellow", "block": "magenta", "log": "blue"}
_STATE_STYLES = {"current": "cyan", "waiting": "yellow", "failed": "magenta", "silent": "bright_black"}


def console() -> Console:
    """Standard output. On a terminal as wide as it is; elsewhere 100 columns and no colour."""
    from rich.console import Console

    terminal = sys.stdout.isatty()
    return Console(width=None if terminal else WIDTH, highlight=False, no_color=not terminal, soft_wrap=False)


def say(line: str | Text = "", indent: int = 0) -> None:
    """Plain words, wrapped so that all lines keep the indent."""
    from rich.padding import Padding
    from rich.text import Text

    _show(Padding(Text(line) if isinstance(line, str) else line, (0, 0, 0, indent)))


def note(line: str) -> None:
    """Words beside the answer, on standard error."""
    print(line, file=sys.stderr)


def _show(what: Padding | Table) -> None:
    """Print without the blanks that fill lines up to the width."""
    out = console()
    with out.capture() as captured:
        out.print(what)
    print("\n".join(line.rstrip() for line in captured.get().splitlines()))


def cut(text: str, most: int) -> str:
    """The text, cut with “…” where it is longer; a wide terminal shows it whole."""
    return text if len(text) <= most or console().width >= 130 else text[: most - 1] + "…"


def mark(word: str) -> Text:
    """An action, verdict or state, coloured on a terminal."""
    from rich.text import Text

    return Text(word, style=_STYLES.get(word) or _STATE_STYLES.get(word) or "")


def ago(moment: datetime | None) -> str:
    """How long ago, in the largest fitting unit; “–” for never."""
    if moment is None:
        return "–"
    return span((datetime.now(UTC) - moment).total_seconds()) + " ago"


def span(seconds: float) -> str:
    """A time span in the largest fitting unit: “4 min”."""
    seconds = max(0.0, seconds)
    for size, unit in ((86_400, "d"), (3600, "h"), (60, "min")):
        if seconds >= size:
            return f"{int(seconds // size)} {unit}"
    return f"{int(seconds)} s"


def print_json(value: Any) -> None:
    """One JSON document."""
    print(json.dumps(_plain(value), indent=2, ensure_ascii=False))


def _plain(value: Any) -> Any:
    if isinstance(value, BaseModel):
        return json.loads(value.model_dump_json())
    if isinstance(value, dict):
        return {key: _plain(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(item) for item in value]
    return value


def print_table(headings: Sequence[str], rows: Iterable[Sequence[str | Text]], *, right: Sequence[int] = ()) -> None:
    """An aligned table; columns in `right` are set flush right."""
    from rich.table import Table
    from rich.text import Text

    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold", show_header=any(headings))
    for number, heading in enumerate(headings):
        table.add_column(heading, justify="right" if number in right else "left", overflow="fold")
    for row in rows:
        table.add_row(*(cell if isinstance(cell, Text) else Text(cell) for cell in row))
    _show(table)


@contextmanager
def working(what: str) -> Iterator[None]:
    """Says on a terminal that something takes its time; silent elsewhere."""
    if not sys.stderr.isatty():
        yield
        return
    from rich.console import Console

    with Console(stderr=True).status(f"{what} …"):
        yield


def print_csv(headings: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    """CSV with a heading line. Cells that a spreadsheet would take for a formula are neutralised."""
    writer = csv.writer(sys.stdout, lineterminator="\n")
    writer.writerow(headings)
    for row in rows:
        writer.writerow([_cell(cell) for cell in row])


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, datetime):
        return rfc3339(value)
    text = " ".join(value) if isinstance(value, tuple) else str(value)
    return guarded(text)
