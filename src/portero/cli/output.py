"""Answers on standard output: aligned tables, JSON, CSV. Colour only on a terminal.

Lines are as wide as the terminal, or as COLUMNS says, else 100 columns; `--wide` wraps nothing. Columns wrap at words,
and a name is never broken: on a terminal too narrow for it, it ends with “…”; in a pipe lines are as long as they need.

What draws is loaded where something is drawn: an answer as JSON needs none of it.
"""

from __future__ import annotations

import csv
import json
import re
import shutil
import sys
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, Literal

from pydantic import BaseModel

from portero.core.nouns.base import rfc3339
from portero.formats.cells import guarded

if TYPE_CHECKING:
    from rich.padding import Padding
    from rich.table import Table
    from rich.text import Text

WIDTH = 100
_GAP, _LEAST, _SHORT = 2, 6, 16
"""Blanks between columns, how narrow one becomes at the most, and how narrow one is not wrapped."""
_STYLES = {"allow": "cyan", "warn": "yellow", "block": "magenta", "log": "bright_blue"}
_STATE_STYLES = {"current": "cyan", "waiting": "yellow", "failed": "magenta", "silent": "bright_black"}


_CONTROLS = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f]")
_wide = False


def be_wide(wide: bool) -> None:
    """Whether lines are from now on as long as they need, wrapped nowhere."""
    global _wide
    _wide = wide


def _width() -> int:
    return shutil.get_terminal_size((WIDTH, 24)).columns


def shown(text: str) -> str:
    """A text whose control characters do nothing to a terminal: what machines tell is somebody else's."""
    return _CONTROLS.sub(lambda found: f"\\x{ord(found[0]):02x}", text)


def say(line: str | Text = "", indent: int = 0) -> None:
    """Plain words, wrapped so that all lines keep the indent."""
    from rich.padding import Padding
    from rich.text import Text

    words = Text(shown(line)) if isinstance(line, str) else line
    _show(Padding(words, (0, 0, 0, indent)), indent + words.cell_len if _wide else _width())


def note(line: str) -> None:
    """Words beside the answer, on standard error."""
    print(shown(line), file=sys.stderr)


def _show(what: Padding | Table, width: int) -> None:
    """Print without the blanks that fill lines up to the width."""
    from rich.console import Console

    terminal = sys.stdout.isatty()
    out = Console(width=max(width, 1), highlight=False, no_color=not terminal, soft_wrap=False)
    with out.capture() as captured:
        out.print(what)
    print("\n".join(line.rstrip() for line in captured.get().splitlines()))


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

    cells = [[cell if isinstance(cell, Text) else Text(shown(cell)) for cell in row] for row in rows]
    widths = _column_widths([[Text(heading) for heading in headings], *cells])
    table = Table(box=None, pad_edge=False, padding=(0, _GAP, 0, 0), header_style="bold", show_header=any(headings))
    for number, (heading, width) in enumerate(zip(headings, widths, strict=True)):
        justify: Literal["left", "right"] = "right" if number in right else "left"
        table.add_column(heading, justify=justify, overflow="ellipsis", width=width)
    for row in cells:
        table.add_row(*row)
    _show(table, sum(widths) + _GAP * len(widths))


def _column_widths(rows: Sequence[Sequence[Text]]) -> list[int]:
    """How wide each column is, so that all fit; the longest word of each at least, where that is possible."""
    from rich.cells import cell_len

    columns = list(zip(*rows, strict=True))
    lines = [max(cell_len(line) for cell in column for line in cell.plain.split("\n")) for column in columns]
    words = [max(cell_len(word) for cell in column for word in (cell.plain.split() or [""])) for column in columns]
    if _wide:
        return lines
    words = [line if line <= _SHORT else word for line, word in zip(lines, words, strict=True)]
    room = _width() - _GAP * (len(columns) - 1)
    while sum(words) > room and sys.stdout.isatty() and max(words) > _LEAST:
        words[words.index(max(words))] -= 1
    left = room - sum(words)
    in_need = sorted(range(len(columns)), key=lambda number: lines[number] - words[number])
    for place, number in enumerate(in_need):
        more = max(0, min(lines[number] - words[number], left // (len(in_need) - place)))
        words[number] += more
        left -= more
    return words


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
