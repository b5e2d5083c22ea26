"""How far something is, on a terminal's standard error; silent elsewhere."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rich.progress import Progress

Note = Callable[[str, int, int], None]


class _Bar:
    """The bar that is shown: one at a time."""

    shown: _Bar | None = None

    def __init__(self, progress: Progress, what: str, total: int | None) -> None:
        self._progress, self._what, self._total = progress, what, total
        self._task = progress.add_task(what, total=total, told="")

    def advance(self, done: int = 0, *, doing: str | None = None, told: str | None = None) -> None:
        """So much more is done; what is being done, and how far it is in words."""
        self._progress.update(self._task, advance=done, description=doing)
        if told is not None:
            self._progress.update(self._task, told=told)

    def look(self, what: str, done: int, of: int) -> None:
        """What the service looks at meanwhile, and how much of it is done."""
        self._progress.update(self._task, description=what, completed=done, total=of, told=f"{done:,} of {of:,}")

    def looked(self) -> None:
        """The service has answered."""
        self._progress.update(self._task, description=self._what, completed=0, total=self._total, told="")


def is_seen() -> bool:
    """Whether somebody sees it."""
    return sys.stderr.isatty()


@contextmanager
def _bar(what: str, total: int | None) -> Iterator[_Bar]:
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

    columns = (TextColumn("{task.description}"), BarColumn(), TextColumn("{task.fields[told]}"), TimeElapsedColumn())
    with Progress(*columns, console=Console(stderr=True), transient=True) as progress:
        _Bar.shown = _Bar(progress, what, total)
        try:
            yield _Bar.shown
        finally:
            _Bar.shown = None


@contextmanager
def progress(what: str, total: int | None = None) -> Iterator[Callable[..., None]]:
    """A bar, where what comes out does not go to the same terminal. Gives what notes progress: how much more is done
    of `total`, what is being done, and how far it is in words.
    """
    if not is_seen() or (total is not None and sys.stdout.isatty()):
        yield lambda *_done, **_told: None
        return
    with _bar(what, total) as bar:
        yield bar.advance


@contextmanager
def working(what: str) -> Iterator[None]:
    """Says that something takes its time."""
    if not is_seen():
        yield
        return
    with _bar(what, None):
        yield


@contextmanager
def answering() -> Iterator[Note]:
    """While the service tells how far its answer is: on the bar that is shown, or on one of its own."""
    known = _Bar.shown
    if known is not None:
        yield known.look
        known.looked()
        return
    with _bar("", None) as bar:
        yield bar.look
