"""The guard itself: reads the kernel's questions and answers them, at once where it can."""

from __future__ import annotations

import os
import select
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from queue import Empty, Full, Queue
from typing import NamedTuple

from portero.core.nouns.action import Verdict
from portero.core.nouns.device import Application
from portero.core.nouns.essentials import ROOT
from portero.core.nouns.settings import UndecidedStart
from portero.core.resolving.policy import Frame
from portero.endpoint.guard.fanotify import KernelQuestions, Question
from portero.endpoint.guard.file_systems import mounted
from portero.endpoint.guard.ledger import Ledger
from portero.endpoint.guard.machine_rules import MachineRules
from portero.endpoint.guard.processes import parent_of, terminal_of, user_of
from portero.endpoint.guard.programs import Digests, FileMark, candidates, path_of
from portero.endpoint.guard.ruling import StartRules, StartRuling
from portero.endpoint.guard.running import HowRunning, RunningProcess, RunningPrograms
from portero.endpoint.guard.telling import GuardLine, say

DEADLINE_SECONDS = 0.4
"""A start that is not decided by then gets what undecided ones get."""
GO_ON_SECONDS = 600.0
"""So long after a warning a program may be started."""
MOST_RULED, MOST_TOLD = 20_000, 2_000
MOST_IN_HAND = 500
"""So many programs wait to be read at once; a start beyond them gets what undecided ones get."""
COUNTED_SECONDS = 2.0
_ROUND_MS = 50
_LOOK_SECONDS = 0.5
RUNNING_SECONDS = 5.0
"""So often it is looked at what runs."""


class _Asked(NamedTuple):
    """A question with what was found out about it."""

    file: int
    pid: int
    mark: FileMark
    path: str | None
    user: str
    since: float


class Guard:
    """Answers the kernel until it is ended. One thread answers; others read files, and take up what is new."""

    def __init__(
        self, questions: KernelQuestions, ledger: Ledger, below: Path, machine: MachineRules, countdown: float
    ) -> None:
        """`countdown` is for how many seconds programs go on that are to be ended, once their people were told."""
        self._questions, self._ledger, self._below, self._machine = questions, ledger, below, machine
        self._own = {os.getpid(), os.getppid()}
        interpreter = os.stat(sys.executable)
        self._interpreter = (interpreter.st_dev, interpreter.st_ino)
        self._within = "" if below.is_mount() else f"{below}/"
        """Only paths below this are ruled on: the folder is a part of a file system that is not its own."""
        self._digests, self._pool = Digests(), ThreadPoolExecutor(2, "reading")
        self._read: Queue[tuple[_Asked, str | None]] = Queue()
        self._wake = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._pending: dict[int, float] = {}
        """Questions whose program is being read, by their files, and since when."""
        self._late: set[int] = set()
        """Those of them that were answered at the deadline."""
        self._ruled: dict[tuple[FileMark, str | None, str], tuple[Frame, StartRuling]] = {}
        self._ruled_by: StartRules | None = None
        self._went_on: dict[tuple[FileMark, str], float] = {}
        self._counts: dict[tuple[FileMark, str | None, str, int], tuple[Application, int]] = {}
        """Starts that nothing refused, by file, path, person and hour."""
        self._countdown = countdown
        self._tell: Queue[GuardLine] = Queue(MOST_TOLD)
        self._guarded: frozenset[int] | None = None
        """The devices of the file systems that are guarded; None for all."""
        self._unguarded = set[str]()
        """Numbers of file systems that cannot be guarded, once that was told."""

    def serve(self) -> None:
        """For ever."""
        self._guard_all()
        threading.Thread(target=self._take_up, daemon=True).start()
        threading.Thread(target=self._say, daemon=True).start()
        threading.Thread(target=self._look_at_running, daemon=True).start()
        poll = select.poll()
        poll.register(self._questions, select.POLLIN)
        poll.register(self._wake, select.POLLIN)
        told_at = time.monotonic()
        rules = self._machine.rules
        self._ledger.is_ready(rules is not None and rules.undecided is UndecidedStart.REFUSE)
        self._put(GuardLine("guards"))
        self._put(GuardLine("rules", text=self._machine.manifest))
        while True:
            self._ledger.beat()
            poll.poll(_ROUND_MS)
            # from here on a question may be in our hands
            self._ledger.waits_since(min(self._pending.values(), default=time.monotonic()))
            for question in self._questions.read():
                self._take(question)
            self._take_read()
            self._settle_late()
            self._ledger.waits_since(min(self._pending.values(), default=0.0))
            if self._counts and time.monotonic() - told_at > COUNTED_SECONDS:
                told_at = time.monotonic()
                self._tell_counts()

    # --- one start ---

    def _take(self, question: Question) -> None:
        rules = self._machine.rules
        if rules is None or question.pid in self._own:
            self._answer(question.file, True)
            return
        try:
            mark = FileMark.of(os.fstat(question.file))
            path = path_of(question.file, mark)
            if not (path or "").startswith(self._within) or self._is_own(mark, question.pid):
                self._answer(question.file, True)
                return
            asked = _Asked(*question, mark, path, user_of(question.pid), time.monotonic())
        except OSError:
            # the process is gone: nobody waits
            self._answer(question.file, True)
            return
        digest = self._digests.get(mark)
        if digest is None and rules.looks_at_contents and not rules.known.by_file(mark):
            if len(self._pending) + len(self._late) >= MOST_IN_HAND:
                self._put(GuardLine.undecided(path or "a program", refused=self._ledger.refuses))
                self._answer(asked.file, not self._ledger.refuses)
                return
            self._pending[asked.file] = asked.since
            self._pool.submit(self._read_file, asked)
            return
        self._decide(asked, rules, digest)

    def _is_own(self, mark: FileMark, pid: int) -> bool:
        """Whether root starts the very program that this endpoint runs by: without it nothing here could be mended."""
        return self._is_interpreter(mark) and user_of(pid) == ROOT

    def _is_interpreter(self, mark: FileMark) -> bool:
        return (mark.device, mark.inode) == self._interpreter

    def _decide(self, asked: _Asked, rules: StartRules, digest: str | None) -> None:
        at = datetime.now(UTC)
        frame = self._machine.frame(rules, asked.user, at)
        ruling = self._rule(asked, rules, frame, digest)
        went_on = ruling.verdict is Verdict.WARN and self._may_go_on(asked)
        allow = went_on or ruling.verdict is Verdict.ALLOW
        if ruling.verdict is Verdict.ALLOW and not ruling.layer.logged:
            self._answer(asked.file, True)
            self._count(asked, ruling.program, at.timestamp())
            return
        told = GuardLine.of(at, ruling, asked.user, parent_of(asked.pid), terminal_of(asked.pid), went_on)
        self._answer(asked.file, allow)
        self._put(told)

    def _rule(self, asked: _Asked, rules: StartRules, frame: Frame, digest: str | None) -> StartRuling:
        if rules is not self._ruled_by or len(self._ruled) > MOST_RULED:
            self._ruled.clear()
            self._ruled_by = rules
        key = (asked.mark, asked.path, asked.user)
        known = self._ruled.get(key)
        if known is not None and known[0] is frame:
            return known[1]
        programs = candidates(rules.known, asked.mark, asked.path, digest)
        ruling = rules.rule(frame, programs, asked.user.casefold())
        self._ruled[key] = (frame, ruling)
        return ruling

    def _may_go_on(self, asked: _Asked) -> bool:
        """A start that is warned of is refused once, and may be tried again for a while."""
        key, now = (asked.mark, asked.user), time.monotonic()
        if self._went_on.get(key, 0.0) > now:
            return True
        self._went_on = {one: until for one, until in self._went_on.items() if until > now}
        self._went_on[key] = now + GO_ON_SECONDS
        return False

    def _answer(self, file: int, allow: bool) -> None:
        self._questions.answer(file, allow)
        os.close(file)

    # --- programs that are read first ---

    def _read_file(self, asked: _Asked) -> None:
        digest = None
        with suppress(OSError):
            digest = self._digests.make(asked.file, asked.mark)
        self._read.put((asked, digest))
        os.eventfd_write(self._wake, 1)

    def _take_read(self) -> None:
        with suppress(BlockingIOError):
            os.eventfd_read(self._wake)
        with suppress(Empty):
            while True:
                asked, digest = self._read.get_nowait()
                rules = self._machine.rules
                self._pending.pop(asked.file, None)
                if asked.file in self._late:
                    self._late.discard(asked.file)
                    os.close(asked.file)
                elif rules is not None:
                    self._decide(asked, rules, digest)

    def _settle_late(self) -> None:
        """What is not read in time is answered without; it is read on, for the next time."""
        now = time.monotonic()
        for file in [file for file, since in self._pending.items() if now - since > DEADLINE_SECONDS]:
            del self._pending[file]
            self._late.add(file)
            path = os.readlink(f"/proc/self/fd/{file}")
            self._questions.answer(file, not self._ledger.refuses)
            self._put(GuardLine.undecided(path, refused=self._ledger.refuses))

    # --- what runs already ---

    def _look_at_running(self) -> None:
        running = RunningPrograms(self._rule_running, self._tell_running, self._countdown)
        while True:
            time.sleep(RUNNING_SECONDS)
            with suppress(OSError):
                running.look(time.monotonic())

    def _rule_running(self, file: int, mark: FileMark, path: str | None, user: str) -> tuple[StartRuling, bool] | None:
        rules = self._machine.rules
        elsewhere = self._guarded is not None and mark.device not in self._guarded
        if rules is None or elsewhere or not (path or "").startswith(self._within) or self._is_interpreter(mark):
            return None
        digest = self._digests.get(mark)
        if digest is None and rules.looks_at_contents and not rules.known.by_file(mark):
            digest = self._digests.make(file, mark)
        frame = self._machine.frame(rules, user, datetime.now(UTC))
        ruling = rules.rule(frame, candidates(rules.known, mark, path, digest), user.casefold())
        return (ruling, rules.ends_running(ruling)) if ruling.verdict is Verdict.BLOCK else None

    def _tell_running(self, what: HowRunning, running: RunningProcess, ruling: StartRuling) -> None:
        self._put(GuardLine.runs(what, datetime.now(UTC), ruling, running, self._countdown))

    # --- what is new, and what is told ---

    def _take_up(self) -> None:
        """New rules and programs are taken up, and new file systems guarded, as they come."""
        with open("/proc/self/mountinfo") as mounts:
            poll = select.poll()
            poll.register(mounts, select.POLLERR | select.POLLPRI)
            while True:
                self._guard_all()
                with suppress(OSError):
                    if self._machine.take_up() and (rules := self._machine.rules) is not None:
                        self._ledger.is_ready(rules.undecided is UndecidedStart.REFUSE)
                        self._put(GuardLine("rules", text=self._machine.manifest))
                poll.poll(_LOOK_SECONDS * 1000)

    def _guard_all(self) -> None:
        """Each time all of them: another file system may have the number of one that is gone."""
        unguarded, found = set(), list(mounted(self._below))
        if self._below != Path("/"):
            self._guarded = frozenset(one.device for one in found)
        for one in found:
            try:
                self._questions.ask_of(one.place)
            except OSError as problem:
                unguarded.add(one.number)
                if one.number not in self._unguarded:
                    self._put(GuardLine.unguarded(str(one.place), problem.strerror or "it cannot be asked of"))
        self._unguarded = unguarded

    def _count(self, asked: _Asked, program: Application, at: float) -> None:
        key = (asked.mark, asked.path, asked.user, int(at // 3600))
        self._counts[key] = (program, self._counts.get(key, (program, 0))[1] + 1)

    def _tell_counts(self) -> None:
        for (_, _, user, hour), (program, starts) in self._counts.items():
            self._put(GuardLine.counted(datetime.fromtimestamp(hour * 3600, UTC), program, user, starts))
        self._counts.clear()

    def _put(self, told: GuardLine) -> None:
        """It is told by a thread of its own: no start waits for who reads it. Where nobody does, it is lost."""
        with suppress(Full):
            self._tell.put_nowait(told)

    def _say(self) -> None:
        while True:
            say(self._tell.get())
