"""Starts that are only tried: the kernel asks the guard as for any other, and what may start is ended before it runs.

The process is traced (ptrace(2)), so that it stops as the new program begins and before its first instruction.
"""

from __future__ import annotations

import ctypes
import errno
import os
import pwd
import signal
import subprocess
from contextlib import suppress

from portero.core.nouns.action import Verdict
from portero.core.nouns.layer import LayerMode
from portero.endpoint.agent import Agent
from portero.endpoint.guard.processes import user_name
from portero.endpoint.guard.trials import TELLS_SECONDS

_TRACEME = 0


class CannotTry(RuntimeError):
    """It cannot be tried here; the message says why."""


def try_start(agent: Agent, path: str, user: str | None) -> tuple[bool, Verdict]:
    """Whether a program starts for somebody, or for who runs this, and what that comes to. CannotTry, OSError."""
    own = user_name(os.getuid())
    if user is not None and user != own:
        if os.getuid() != 0:
            raise CannotTry(f"Only root can try a start as {user}.")
        try:
            pwd.getpwnam(user)
        except KeyError as problem:
            raise CannotTry(f"There is no user {user} on this machine.") from problem
    if agent.manifest is not None:
        agent.trials.await_rules(agent.manifest.name)
    trial = agent.trials.begin(path, user or own)
    if _starts(path, user if user != own else None):
        return True, Verdict.ALLOW
    if agent.startup is not LayerMode.ENFORCING:
        raise CannotTry("It does not start here, and no guard stands in its way.")
    # what is warned of does not start either, until somebody goes on
    trial.told.wait(TELLS_SECONDS)
    return False, trial.verdict or Verdict.BLOCK


def _starts(path: str, user: str | None) -> bool:
    """Whether the program begins, or the guard says no. CannotTry where it may not be started by who it is; OSError."""
    libc = ctypes.CDLL(None, use_errno=True)

    def be_traced() -> None:
        libc.ptrace(_TRACEME, 0, 0, 0)

    try:
        process = subprocess.Popen(
            [path],
            user=user,
            preexec_fn=be_traced,
            cwd="/",
            env={},
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
    except PermissionError as problem:
        if problem.errno == errno.EACCES:
            raise CannotTry(f"{user or 'Who runs the endpoint'} may not start {path} here.") from problem
        return False
    try:
        # it has stopped, as it begins
        os.waitpid(process.pid, os.WUNTRACED)
    finally:
        with suppress(ProcessLookupError):
            os.kill(process.pid, signal.SIGKILL)
        with suppress(ChildProcessError):
            process.wait()
    return True
