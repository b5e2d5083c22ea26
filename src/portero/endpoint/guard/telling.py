"""What the guard and its watcher tell the endpoint, a JSON document a line."""

from __future__ import annotations

import os
from datetime import datetime
from typing import Any, Literal

import msgspec

from portero.core.nouns.device import Application
from portero.endpoint.guard.processes import terminal_of
from portero.endpoint.guard.ruling import StartRuling
from portero.endpoint.guard.running import HowRunning, RunningProcess

What = Literal["start", "running", "counts", "undecided", "unguarded", "guards", "rules", "restarted", "cannot"]


class GuardLine(msgspec.Struct, frozen=True, omit_defaults=True):
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
    running: HowRunning | None = None
    seconds: float = 0.0
    """Of one that was warned: when it will be ended."""
    text: str = ""

    @classmethod
    def of(
        cls, at: datetime, ruling: StartRuling, user: str, parent: str | None, terminal: str | None, went_on: bool
    ) -> GuardLine:
        """A start that was stopped, warned of or logged."""
        return cls("start", at.isoformat(), ruling.written(), None, user, parent, terminal, went_on)

    @classmethod
    def counted(cls, hour: datetime, program: Application, user: str, starts: int) -> GuardLine:
        """So many starts of a program by somebody in an hour, that nothing refused."""
        written = program.model_dump(mode="json", exclude_none=True)
        return cls("counts", hour.isoformat(), program=written, user=user, starts=starts)

    @classmethod
    def runs(
        cls,
        what: HowRunning,
        at: datetime,
        ruling: StartRuling,
        running: RunningProcess,
        seconds: float,
    ) -> GuardLine:
        """A program that may not start and runs already."""
        return cls(
            "running",
            at.isoformat(),
            ruling.written(),
            user=running.user,
            terminal=terminal_of(running.pid),
            running=what,
            seconds=seconds,
        )

    @classmethod
    def undecided(cls, path: str, refused: bool) -> GuardLine:
        """A start that was not decided in time."""
        done = "refused" if refused else "let through"
        return cls("undecided", text=f"{path[:500]} could not be looked at in time, and its start was {done}")

    @classmethod
    def unguarded(cls, place: str, why: str) -> GuardLine:
        """A file system from which programs start unasked."""
        return cls("unguarded", text=f"programs below {place[:500]} start unasked: {why}")


def say(told: GuardLine) -> None:
    """Write it where the endpoint reads: standard output."""
    line = msgspec.json.encode(told) + b"\n"
    while line:
        line = line[os.write(1, line) :]
