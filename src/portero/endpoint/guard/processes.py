"""Who starts a program, from where: proc(5)."""

from __future__ import annotations

import os
import pwd
from contextlib import suppress
from functools import lru_cache

_TERMINAL, _STARTED = 6, 21
"""Where proc_pid_stat(5) has the terminal, and when it was started, counted from 0."""
_PSEUDO_TERMINALS = range(136, 144)


def user_of(pid: int) -> str:
    """The account whose real user id a process has. OSError where the process is gone."""
    status = _read(pid, "status")
    at = status.index(b"\nUid:\t") + 6
    return user_name(int(status[at : status.index(b"\t", at)]))


@lru_cache(maxsize=1000)
def user_name(uid: int) -> str:
    """The account of a user id, or the number where none has it."""
    with suppress(KeyError):
        return pwd.getpwuid(uid).pw_name
    return str(uid)


def parent_of(pid: int) -> str | None:
    """The program from which a process starts another one; None where it is gone."""
    with suppress(OSError):
        return os.fsencode(os.readlink(f"/proc/{pid}/exe")).decode(errors="backslashreplace")[:1024]
    return None


def terminal_of(pid: int) -> str | None:
    """The terminal that a process has, where it is one of a window or a connection."""
    with suppress(OSError, ValueError, IndexError):
        # the name of the program, in brackets, may hold anything
        number = int(_read(pid, "stat").rpartition(b")")[2].split()[_TERMINAL - 2])
        if os.major(number) in _PSEUDO_TERMINALS:
            return f"/dev/pts/{os.minor(number) + 256 * (os.major(number) - _PSEUDO_TERMINALS.start)}"
    return None


def started_at(pid: int) -> int:
    """When a process was started, in ticks since the machine was. OSError where it is gone."""
    return int(_read(pid, "stat").rpartition(b")")[2].split()[_STARTED - 2])


def _read(pid: int, name: str) -> bytes:
    file = os.open(f"/proc/{pid}/{name}", os.O_RDONLY | os.O_CLOEXEC)
    try:
        return os.read(file, 4096)
    finally:
        os.close(file)
