"""What the guard and its watcher tell the endpoint, a JSON document a line."""

from __future__ import annotations

import os
from datetime import datetime
from typing import Any, Literal

import msgspec

from portero.core.nouns.device import Application
from portero.endpoint.guard.ruling import StartRuling

What = Literal["start", "counts", "undecided", "unguarded", "guards", "ended", "cannot"]


class Told(msgspec.Struct, frozen=True, omit_defaults=True):
    """One thing: a start that was stopped, warned of or logged; how often a program was started; or how the guard is.

    `at` is RFC 3339 in UTC; `ruling` holds program, verdict and layer as JSON. `text` says more in words.
    """

    what: What
    at: str | None = None
    ruling: dict[str, Any] | None = None
    program: dict[str, Any] | None = None
    user: str | None = None
    parent: str | None = None
    terminal: str | None = None
    went_on: bool = False
    starts: int = 0
    text: str = ""

    @classmethod
    def of(
        cls, at: datetime, ruling: StartRuling, user: str, parent: str | None, terminal: str | None, went_on: bool
    ) -> Told:
        """A start that was stopped, warned of or logged."""
        return cls("start", at.isoformat(), ruling.written(), None, user, parent, terminal, went_on)

    @classmethod
    def counted(cls, hour: datetime, program: Application, user: str, starts: int) -> Told:
        """So many starts of a program by somebody in an hour, that nothing refused."""
        written = program.model_dump(mode="json", exclude_none=True)
        return cls("counts", hour.isoformat(), program=written, user=user, starts=starts)

    @classmethod
    def undecided(cls, path: str, refused: bool) -> Told:
        """A start that was not decided in time."""
        done = "refused" if refused else "let through"
        return cls("undecided", text=f"{path[:500]} could not be looked at in time, and its start was {done}")

    @classmethod
    def unguarded(cls, place: str, why: str) -> Told:
        """A file system from which programs start unasked."""
        return cls("unguarded", text=f"programs below {place[:500]} start unasked: {why}")


def say(told: Told) -> None:
    """Write it where the endpoint reads: standard output."""
    line = msgspec.json.encode(told) + b"\n"
    while line:
        line = line[os.write(1, line) :]
