"""Programs that run already as a rule comes that stops them: found, and ended where the assignment says so."""

from __future__ import annotations

import os
import signal
from collections.abc import Callable, Iterator
from contextlib import suppress
from typing import Literal, NamedTuple

from portero.endpoint.guard.processes import started_at, user_of
from portero.endpoint.guard.programs import FileMark, path_of
from portero.endpoint.guard.ruling import StartRuling

KILLED_AFTER = 10.0
"""A program that was asked to end, and has not after so many seconds, is killed."""


class RunningProcess(NamedTuple):
    """A process, told from a later one with its number by when it was started."""

    pid: int
    started: int
    user: str


HowRunning = Literal["found", "warned", "ended"]
"""It runs; it runs and will be ended; it was asked to end."""
RuleOn = Callable[[int, FileMark, str | None, str], tuple[StartRuling, bool] | None]
"""Rules on an open file that somebody runs: the ruling, and whether such programs are to be ended; None where it is let
run.
"""
Tell = Callable[[HowRunning, RunningProcess, StartRuling], None]


class RunningPrograms:
    """What runs, looked at from time to time. Each is told of once, and ended `countdown` seconds after its notice."""

    def __init__(self, rule_on: RuleOn, tell: Tell, countdown: float) -> None:
        self._rule_on, self._tell, self._countdown = rule_on, tell, countdown
        self._due: dict[RunningProcess, float | None] = {}
        """Those that were told of, and when they are to end; None for those that are let run."""
        self._asked: dict[RunningProcess, float] = {}
        """Those that were asked to end, and when they are killed."""

    def look(self, now: float) -> None:
        """Look at all that runs; `now` is in seconds of the monotonic clock."""
        seen: dict[RunningProcess, float | None] = {}
        for running, file in _running():
            try:
                seen |= self._look_at(running, file, now)
            finally:
                os.close(file)
        self._due = seen
        for running, at in list(self._asked.items()):
            if now >= at:
                del self._asked[running]
                if _is_still(running):
                    _send(running, signal.SIGKILL)

    def _look_at(self, running: RunningProcess, file: int, now: float) -> dict[RunningProcess, float | None]:
        mark = FileMark.of(os.fstat(file))
        ruled = self._rule_on(file, mark, path_of(file, mark), running.user)
        if ruled is None or running in self._asked:
            return {}
        ruling, ends = ruled
        if running not in self._due or (ends and self._due[running] is None):
            self._tell("warned" if ends else "found", running, ruling)
            return {running: now + self._countdown if ends else None}
        due = self._due[running]
        if not ends or due is None or now < due:
            return {running: due if ends else None}
        if _send(running, signal.SIGTERM):
            self._asked[running] = now + KILLED_AFTER
            self._tell("ended", running, ruling)
        return {}


def _running() -> Iterator[tuple[RunningProcess, int]]:
    """All processes with a program, and that, as an open file; but for this one and its parent."""
    for name in os.listdir("/proc"):
        pid = int(name) if name.isdecimal() else 0
        if pid and pid not in (os.getpid(), os.getppid()):
            # one that is gone meanwhile, and the kernel's own, have none
            with suppress(OSError):
                running = RunningProcess(pid, started_at(pid), user_of(pid))
                yield running, os.open(f"/proc/{pid}/exe", os.O_RDONLY | os.O_CLOEXEC)


def _is_still(running: RunningProcess) -> bool:
    with suppress(OSError):
        return started_at(running.pid) == running.started
    return False


def _send(running: RunningProcess, number: signal.Signals) -> bool:
    """Whether it was there to be sent to."""
    with suppress(OSError):
        handle = os.pidfd_open(running.pid)
        try:
            if _is_still(running):
                signal.pidfd_send_signal(handle, number)
                return True
        finally:
            os.close(handle)
    return False
