"""The small watcher beside the guard: it holds the kernel's questions, and begins another guard where one hangs.

`python -m portero.endpoint.guard.watching --data DIR --below DIR --countdown SECONDS` runs until its standard input is
closed.
"""

from __future__ import annotations

import argparse
import ctypes
import os
import resource
import select
import signal
import sys
import threading
import time
from contextlib import suppress
from pathlib import Path
from typing import NoReturn

from portero.endpoint.folder import Folder
from portero.endpoint.guard.fanotify import CannotGuard, KernelQuestions
from portero.endpoint.guard.ledger import Ledger
from portero.endpoint.guard.machine_rules import MachineRules
from portero.endpoint.guard.serving import Guard
from portero.endpoint.guard.telling import GuardLine, say

HANGS_SECONDS = 0.5
"""A guard that has not gone round for so long while a start waits is ended."""
BEGINS_SECONDS = 20.0
"""So long a guard may read its rules before it answers."""
_ROUND_MS = 25
_MOST_FILES = 1024
"""So many files a guard has open at most, each a question: all of them can be answered for it."""
_NICENESS = -10
_PR_SET_PDEATHSIG = 1
CANNOT = 3
"""The exit status where this process may not guard anything."""


class Watcher:
    """Watches one guard after the other. It does as little as it can, so that it does not hang itself."""

    def __init__(self, data: Path, below: Path, countdown: float) -> None:
        """CannotGuard, NotJoined."""
        self._folder, self._below, self._countdown = Folder(data), below, countdown
        self._folder.identity()
        self._questions, self._ledger = KernelQuestions(), Ledger()
        self._waiting_since: float | None = None
        """Since when a question waits while no guard answers."""
        self._guard = 0

    def watch(self) -> None:
        """Until nobody is at the other end of standard input."""
        self._begin()
        poll = select.poll()
        poll.register(sys.stdin, select.POLLIN)
        while not poll.poll(_ROUND_MS):
            if os.waitpid(self._guard, os.WNOHANG)[0]:
                self._begin_anew("it had ended")
            elif self._hangs():
                os.kill(self._guard, signal.SIGKILL)
                os.waitpid(self._guard, 0)
                self._begin_anew("it answered no longer")
        os.kill(self._guard, signal.SIGKILL)
        os.waitpid(self._guard, 0)

    def _hangs(self) -> bool:
        now, unread = time.monotonic(), self._unread()
        if not self._ledger.ready:
            # it is reading its rules: what waits longer than a start may wait is answered without it
            self._waiting_since = (self._waiting_since or now) if unread else None
            if self._waiting_since is not None and now - self._waiting_since > HANGS_SECONDS:
                self._settle()
                self._waiting_since = None
            return self._ledger.begun_for(now) > BEGINS_SECONDS
        self._waiting_since = None
        if self._ledger.waiting_for(now) > HANGS_SECONDS:
            return True
        return unread and self._ledger.silent_for(now) > HANGS_SECONDS

    def _unread(self) -> bool:
        return bool(select.select([self._questions], [], [], 0)[0])

    def _begin_anew(self, why: str) -> None:
        self._settle()
        say(GuardLine("restarted", text=f"the guard of program starts was begun anew, as {why}"))
        self._begin()

    def _settle(self) -> None:
        """Answer all that waits as what is undecided is answered: what a guard had read, and what none had."""
        allow = not self._ledger.refuses
        # a question is named by the number that its file had in the guard; one that none waits for is passed over
        for file in range(_MOST_FILES):
            self._questions.answer(file, allow)
        while found := list(self._questions.read()):
            for question in found:
                self._questions.answer(question.file, allow)
                os.close(question.file)

    def _begin(self) -> None:
        self._ledger.begin()
        self._guard = os.fork()
        if self._guard == 0:
            _end_with_parent()
            self._become_guard()

    def _become_guard(self) -> None:
        # a guard without one of its threads is none: another one is begun
        threading.excepthook = lambda ended: _end(ended.exc_value)
        try:
            machine = MachineRules(self._folder)
            Guard(self._questions, self._ledger, self._below, machine, self._countdown).serve()
        except BaseException as problem:
            _end(problem)
        _end(None)


def _end(problem: BaseException | None) -> NoReturn:
    sys.stderr.write(f"the guard ended: {problem!r}\n")
    sys.stderr.flush()
    os._exit(1)


def _end_with_parent() -> None:
    """Have the kernel end this process with the watcher: a group without one would hold every start."""
    parent = os.getppid()
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent:
        os._exit(1)


def main(arguments: list[str] | None = None) -> int:
    """Run the watcher; returns its exit status."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--data", type=Path, required=True)
    parser.add_argument("--below", type=Path, required=True)
    parser.add_argument("--countdown", type=float, required=True)
    options = parser.parse_args(arguments)
    with suppress(ValueError, OSError):
        # ValueError where fewer are let anyhow
        resource.setrlimit(resource.RLIMIT_NOFILE, (_MOST_FILES, resource.getrlimit(resource.RLIMIT_NOFILE)[1]))
    with suppress(OSError):
        os.nice(_NICENESS)
    try:
        watcher = Watcher(options.data, options.below.resolve(), options.countdown)
    except CannotGuard as problem:
        say(GuardLine("cannot", text=str(problem)))
        return CANNOT
    watcher.watch()
    return 0


if __name__ == "__main__":
    sys.exit(main())
