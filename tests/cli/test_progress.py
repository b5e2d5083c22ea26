"""On a terminal a command says how far the service is with an answer that takes its time."""

from __future__ import annotations

import os
import pty
import re
import select
import subprocess
import sys
import time

import pytest

from conftest import assignment, ruleset
from serving import held_looks


@pytest.fixture(scope="module", autouse=True)
def something_to_settle(portero):
    portero.rulesets.create(ruleset("calm", games="block"))
    portero.assignments.create(assignment("calm", "unclaimed"))


class Terminal:
    """A command on a terminal of its own, from a window 100 letters wide."""

    def __init__(self, *arguments: str, **environment: str) -> None:
        self._ours, theirs = pty.openpty()
        env = {**os.environ, "TERM": "xterm", "COLUMNS": "100", **environment}
        command = [sys.executable, "-m", "portero.cli.main", *arguments]
        self.process = subprocess.Popen(command, stdin=theirs, stdout=theirs, stderr=theirs, env=env)
        os.close(theirs)
        self.said = ""

    def until(self, words: str, seconds: float = 30) -> None:
        """Wait until words come; or the end, where they are empty."""
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            if words and words in re.sub(r"\x1b\[[0-9;?]*[a-zA-Z]", "", self.said):
                return
            if not select.select([self._ours], [], [], 0.2)[0]:
                continue
            try:
                self.said += os.read(self._ours, 65536).decode()
            except OSError:
                break
        assert not words, self.said
        os.close(self._ours)
        self.process.wait(10)


def test_a_bar_says_how_far_it_is_and_goes(service, portero):
    transport = portero._connection.transport
    with held_looks(service) as go_on:
        terminal = Terminal("findings", PORTERO_URL=transport.url, PORTERO_TOKEN=transport.token)
        terminal.until("Rules that meet")
        terminal.until("3 of 9")
        go_on.set()
        terminal.until("")
    # something is to be settled
    assert terminal.process.returncode == 3
    last = terminal.said.rsplit("\x1b[2K", 1)[1]
    assert "calm on unclaimed" in last
    assert "Rules that meet" not in last
