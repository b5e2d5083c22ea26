"""The endpoint's side of the guard: it is begun, begun again, listened to; people are told of what did not start."""

from __future__ import annotations

import asyncio
import os
import re
import sys
import time
from asyncio.subprocess import PIPE
from collections.abc import Callable
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

import msgspec

from portero.core import sentences, wording
from portero.core.nouns.action import Verdict
from portero.core.nouns.device import Application
from portero.core.nouns.layer import LayerMode
from portero.endpoint.agent import Agent
from portero.endpoint.desktop import show
from portero.endpoint.guard.ruling import StartRuling
from portero.endpoint.guard.telling import GuardLine

ALIKE_SECONDS = 1.0
"""Starts that are alike are told once in so many seconds: a program that is tried over and over floods nothing."""
MOST_ALIKE = 1_000
_BEGIN_AGAIN = 1.0
_MOST_LINE = 1 << 20
_TERMINAL = re.compile(r"^/dev/pts/\d+$")


class GuardOptions(NamedTuple):
    """What is guarded: file systems at and below a folder; and how many seconds a program goes on that is to end."""

    below: Path
    countdown: float


async def keep_guard(agent: Agent, options: GuardOptions, say: Callable[[str], None] = lambda _line: None) -> None:
    """Guard the file systems at and below a folder for ever. Where this process may not, it says so once and ends."""
    listening = _Listening(agent, say)
    listening.is_off(None)
    while True:
        await _run(agent.folder.path, options, listening)
        if listening.cannot:
            return
        listening.is_off("the guard of program starts does not run")
        await asyncio.sleep(_BEGIN_AGAIN)


async def _run(data: Path, options: GuardOptions, listening: _Listening) -> None:
    command = (sys.executable, "-m", "portero.endpoint.guard.watching", "--data", data, "--below", options.below)
    countdown = ("--countdown", str(options.countdown))
    process = await asyncio.create_subprocess_exec(*command, *countdown, stdin=PIPE, stdout=PIPE, limit=_MOST_LINE)
    assert process.stdout is not None
    assert process.stdin is not None
    try:
        while line := await process.stdout.readline():
            # a line that another one broke says nothing
            with suppress(msgspec.MsgspecError, ValueError, KeyError):
                await listening.hear(_TOLD.decode(line))
    finally:
        # it ends as its standard input does
        process.stdin.close()
        with suppress(ProcessLookupError):
            await process.wait()


_TOLD = msgspec.json.Decoder(GuardLine)


class _Listening:
    """What is made of the lines that a guard and its watcher write."""

    def __init__(self, agent: Agent, say: Callable[[str], None]) -> None:
        self._agent, self._say = agent, say
        self._alike: dict[tuple[object, ...], float] = {}
        self.cannot = False

    async def hear(self, told: GuardLine) -> None:
        """Take one line. ValueError, KeyError where it does not read."""
        if told.what == "start":
            await self._started(told)
        elif told.what == "running":
            await self._runs(told)
        elif told.what == "counts":
            program = Application.model_validate(told.program)
            starts = told.starts - self._agent.trials.take(program.path, told.user, Verdict.ALLOW, told.starts)
            if starts:
                self._agent.meet(told.user)
                self._agent.queue.count_start(program, told.user, _moment(told.at), starts)
        elif told.what == "guards":
            self._is(LayerMode.ENFORCING, None)
            self._say("the guard answers for every start of a program")
        elif told.what == "rules":
            self._agent.trials.ruled_by(told.text)
        elif told.what == "cannot":
            self.cannot = True
            self._is(LayerMode.OBSERVING, f"programs are not stopped on this machine: {told.text}")
            self._say(f"{told.text}; programs that are started with portero-endpoint start are ruled on all the same")
        else:
            self._agent.log.note(self._agent.now(), told.what, told.text)
            self._say(told.text)
            if told.what == "restarted":
                self.is_off(told.text)

    def is_off(self, why: str | None) -> None:
        """The guard does not run just now, or not yet."""
        self._is(LayerMode.OFF, why)

    def _is(self, mode: LayerMode, problem: str | None) -> None:
        self._agent.guard_problem = problem
        if self._agent.startup is not mode:
            self._agent.startup = mode
            self._agent.news.set()

    async def _started(self, told: GuardLine) -> None:
        ruling = StartRuling.read(told.ruling or {})
        if self._agent.trials.take(ruling.program.path, told.user, ruling.verdict):
            return
        if self._is_alike((ruling.program.path, told.user, ruling.verdict, told.went_on)):
            return
        reference = self._agent.record_start(
            ruling, user=told.user, parent=told.parent, at=_moment(told.at), continued=told.went_on
        )
        if ruling.verdict is Verdict.ALLOW or told.went_on:
            return
        text = notice_text(self._agent, ruling, reference)
        await self._show(text, told.terminal, "This program does not start here")

    async def _runs(self, told: GuardLine) -> None:
        """A program that may not start runs already: it is told of, and whoever uses it where it will be ended."""
        ruling = StartRuling.read(told.ruling or {})
        if told.running == "warned":
            text = sentences.will_be_ended(ruling.program, ruling.layer.winner, round(told.seconds))
            await self._show(text, told.terminal, "This program will be ended")
            return
        self._agent.record_start(
            ruling, user=told.user, at=_moment(told.at), running="ended" if told.running == "ended" else "found"
        )

    async def _show(self, text: str, terminal: str | None, title: str) -> None:
        self._say(text)
        if terminal:
            await asyncio.to_thread(write_on, terminal, text)
        await show(text, title)

    def _is_alike(self, start: tuple[object, ...]) -> bool:
        now = time.monotonic()
        if len(self._alike) > MOST_ALIKE:
            self._alike.clear()
        was = self._alike.get(start, 0.0)
        if now - was < ALIKE_SECONDS:
            return True
        self._alike[start] = now
        return False


def _moment(written: str | None) -> datetime:
    return datetime.fromisoformat(written or "")


def notice_text(agent: Agent, ruling: StartRuling, reference: str | None) -> str:
    """What a person is told whose program did not start, in one line."""
    own = agent.notice_of(ruling.layer)
    said = [sentences.start_notice(ruling.verdict, ruling.program, ruling.layer.winner)]
    if own is not None:
        said += [wording.as_sentence(one) for one in (own.title, own.text, own.contact) if one]
    said.append(f"Reference {reference}." if reference else "")
    return " ".join(filter(None, said))


def write_on(terminal: str, text: str) -> None:
    """A line on somebody's terminal, where it takes one at once."""
    if not _TERMINAL.match(terminal):
        return
    # names come from files of others: nothing of them may steer a terminal
    plain = "".join(letter if letter.isprintable() else "�" for letter in text)
    with suppress(OSError):
        file = os.open(terminal, os.O_WRONLY | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC)
        try:
            os.write(file, f"\r\nPortero: {plain}\r\n".encode())
        finally:
            os.close(file)
