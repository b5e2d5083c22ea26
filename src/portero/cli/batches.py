"""Batches of attempts: JSON Lines in, JSON Lines out, in the same order; by the service, or from documents alone."""

from __future__ import annotations

import gc
import io
import multiprocessing
import os
import sys
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from contextlib import ExitStack
from itertools import chain, islice
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple

from portero.cli.command import DONE, FAILED, CommandProblem, Context, UsageProblem
from portero.cli.documents import offline
from portero.cli.progress import progress
from portero.core.insight.check_batches import MAX_LINE, unjudged, value_of
from portero.core.insight.check_lines import LineJudge
from portero.core.insight.offline import OfflineEstate
from portero.core.nouns.verdict import Unjudged

AT_ONCE = 500
"""Lines that go to the service together."""
MOST_JOBS = 256
A_CHUNK = 500
"""Lines that a process judges before it hands their answers back."""
_AHEAD = 3
"""How many chunks wait for each process."""


class Answered(NamedTuple):
    """The answers to some lines, each with its line's end; how many bytes of input they are for; whether all could be
    judged.
    """

    answers: bytes
    read: int
    failed: bool


def check_batch(context: Context) -> int:
    """The verdict on each line; in the same order, a verdict or a problem a line."""
    options, documents = context.options, offline(context.options)
    jobs = cores() if options.jobs is None else options.jobs
    if not 1 <= jobs <= MOST_JOBS:
        raise UsageProblem(f"--jobs takes 1 to {MOST_JOBS} processes")
    failed = False
    sys.stdout.flush()
    write = sys.stdout.buffer.write if hasattr(sys.stdout, "buffer") else lambda told: sys.stdout.write(told.decode())
    with ExitStack() as stack:
        file, size = _opened(options.file, stack)
        note = stack.enter_context(progress("Judging", size))
        lines = (line for line in _lines(file) if line.strip())
        brief: bool = options.brief
        found = _asked(context, lines, brief) if documents is None else judged(documents, lines, jobs, brief)
        for answered in found:
            write(answered.answers)
            failed = failed or answered.failed
            note(answered.read)
    return FAILED if failed else DONE


def cores() -> int:
    """How many processes may run at once."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


# --- reading ---


def _opened(name: str, stack: ExitStack) -> tuple[BinaryIO, int | None]:
    """The file, and its size in bytes where that is known."""
    if name == "-":
        return getattr(sys.stdin, "buffer", None) or io.BytesIO(sys.stdin.read().encode()), None
    try:
        file = Path(name).open("rb")  # noqa: SIM115 - the stack closes it
    except OSError as problem:
        raise CommandProblem(f"{name} cannot be read: {problem.strerror}") from problem
    return stack.enter_context(file), os.fstat(file.fileno()).st_size


def _lines(file: BinaryIO) -> Iterator[bytes]:
    """Each line; of one that is longer than any may be no more than that much is kept."""
    while line := file.readline(MAX_LINE + 2):
        rest = line
        while len(line) > MAX_LINE and rest and not rest.endswith(b"\n"):
            rest = file.readline(MAX_LINE)
        yield line


# --- from documents ---


def judged(documents: OfflineEstate, lines: Iterator[bytes], jobs: int, brief: bool = False) -> Iterator[Answered]:
    """The answers to lines in their order, by as many processes; whole, or in brief."""
    judge = LineJudge(documents, brief)
    first, second = (list(islice(lines, A_CHUNK)) for _ in range(2))
    if jobs == 1 or not second or "fork" not in multiprocessing.get_all_start_methods():
        yield from (_answered(judge, some) for some in chain((first, second), _chunks(lines)) if some)
        return
    # what was made ready is there in each process that is forked, and stays: nobody need look through it
    gc.freeze()
    _Forked.judge = judge
    waiting: deque[Future[Answered]] = deque()
    with ProcessPoolExecutor(jobs, mp_context=multiprocessing.get_context("fork")) as pool:
        for some in chain((first, second), _chunks(lines)):
            waiting.append(pool.submit(_in_a_process, some))
            if len(waiting) >= jobs * _AHEAD:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()


def _chunks(lines: Iterator[bytes]) -> Iterator[list[bytes]]:
    while some := list(islice(lines, A_CHUNK)):
        yield some


class _Forked:
    """What the processes of a batch judge by."""

    judge: LineJudge


def _in_a_process(lines: list[bytes]) -> Answered:
    return _answered(_Forked.judge, lines)


def _answered(judge: LineJudge, lines: list[bytes]) -> Answered:
    judge.failed = False
    pieces: list[bytes] = []
    for line in lines:
        pieces += judge.answer(line)
        pieces.append(b"\n")
    return Answered(b"".join(pieces), sum(map(len, lines)), judge.failed)


# --- by the service ---


def _asked(context: Context, lines: Iterator[bytes], brief: bool) -> Iterator[Answered]:
    with context.client() as portero:
        while some := list(islice(lines, AT_ONCE)):
            values = [_value(line) for line in some]
            attempts = [value for value in values if isinstance(value, dict)]
            told = iter((portero.checks.check_briefly if brief else portero.checks.check_batch)(attempts))
            found = [value if isinstance(value, Unjudged) else next(told) for value in values]
            answers = "".join(f"{one.model_dump_json()}\n" for one in found).encode()
            yield Answered(answers, sum(map(len, some)), any(isinstance(one, Unjudged) for one in found))


def _value(line: bytes) -> dict[str, Any] | Unjudged:
    value = value_of(line)
    return value if isinstance(value, dict | Unjudged) else unjudged(None, "invalid", "an attempt is a mapping")
