"""What a guard costs a start, beside the same start without one; needs root."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from bench.measuring import Figure, Measurement, Row, in_turns
from made_folders import joined_folder
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.ruleset import Ruleset
from portero.endpoint.inventory import Inventory
from portero.endpoint.test_program import put_test_program

RULES = 500


def _estate() -> Estate:
    """Rules that name programs in every way, and none of those that are started."""
    fields = ("product", "vendor", "file", "signer", "category")
    sets = [{"key": f"set-{n}", "include": [{fields[n % 5]: f"named-{n}"}]} for n in range(RULES)]
    rules = [{"application_set": one["key"], "action": "block"} for one in sets]
    ruleset = Ruleset.model_validate({"key": "programs", "kind": "startup", "rules": rules})
    return Estate(
        application_sets=tuple(map(ApplicationSet.model_validate, sets)),
        rulesets=(ruleset,),
        assignments=(Assignment(key="a", ruleset="programs", to=("whole-fleet",)),),
    )


@contextmanager
def _guarded(data: Path, below: Path) -> Iterator[None]:
    options = ["--data", data, "--below", below, "--countdown", "60"]
    command = [sys.executable, "-m", "portero.endpoint.guard.watching", *options]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as guard:
        assert guard.stdout is not None
        assert guard.stdin is not None
        while b'"guards"' not in guard.stdout.readline():
            assert guard.poll() is None, "the guard ended"
        reader = threading.Thread(target=guard.stdout.read)
        reader.start()
        yield
        guard.stdin.close()
        reader.join()


def _start(program: str, *arguments: str) -> float:
    """Seconds from the start of a program to its end."""
    began = time.perf_counter()
    os.waitpid(os.posix_spawn(program, [program, *arguments], os.environ), 0)
    return time.perf_counter() - began


def _starts(data: Path, below: Path | None, starts: int, *command: str) -> Measurement:
    """So many starts with a guard on a file system, or without."""

    def once() -> list[float]:
        if below is None:
            return [_start(*command) for _ in range(starts)]
        with _guarded(data, below):
            _start(*command)  # it is read once
            return [_start(*command) for _ in range(starts)]

    return once


def _longest(starts: int, command: str, kept: list[float]) -> Callable[[], None]:
    return lambda: kept.append(max(_start(command) for _ in range(starts)))


def guard_rows(starts: int, rounds: int) -> list[Row | Figure]:
    """A tiny program and an interpreter, each guarded and not; and two loops at full rate."""
    if os.geteuid() != 0:
        print("The guard is not measured: that needs root.")
        return []
    with tempfile.TemporaryDirectory() as temporary:
        data, below = Path(temporary, "data"), Path(temporary, "programs")
        data.mkdir()
        below.mkdir()
        subprocess.run(["mount", "-t", "tmpfs", "portero", below], check=True)
        try:
            tiny = str(put_test_program(below, "Tide-Table", "1.0"))
            python = str(below / "python")
            # on the guarded file system: a link would be followed to where it leads
            Path(python).write_bytes(Path(sys.executable).resolve().read_bytes())
            Path(python).chmod(0o755)
            Inventory(joined_folder(data, _estate()), (below,)).look()
            ordinary = (python, "-c", "import json")
            floor, guarded, bare, under = in_turns(
                rounds,
                _starts(data, None, starts, tiny),
                _starts(data, below, starts, tiny),
                _starts(data, None, starts // 20, *ordinary),
                _starts(data, below, starts // 20, *ordinary),
            )
            longest: list[float] = []
            with _guarded(data, below):
                loops = [threading.Thread(target=_longest(starts * 2, tiny, longest)) for _ in range(2)]
                for loop in loops:
                    loop.start()
                for loop in loops:
                    loop.join()
        finally:
            subprocess.run(["umount", "-l", below], check=True)
    return [
        Row("floor: start a tiny program", floor),
        Row(f"the same under the guard, {RULES} rules", guarded, floor.median, goal=4),
        Row("floor: start an interpreter", bare),
        Row("the same under the guard", under, bare.median, goal=1.1),
        Figure("longest start of two loops at full rate", max(longest) * 1000, "ms", at_most=1000),
    ]
