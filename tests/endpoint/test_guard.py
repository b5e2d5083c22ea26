"""The guard on this machine: programs that may not start do not, whichever way they are started."""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import Process, assignment, eventually, run_endpoint
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.ruleset import Ruleset
from portero.demo.harmless import put_harmless

pytestmark = [
    pytest.mark.process,
    pytest.mark.skipif(os.geteuid() != 0, reason="only root may guard a machine"),
]


class Guarded:
    """A machine that guards a file system of its own, with programs on it."""

    def __init__(self, folder: Path, data: Path) -> None:
        self.folder, self.data = folder, data
        run = ("portero.endpoint.main", "run", "--data", data, "--port", 0, "--every", 60)
        self.process = Process(*run, "--programs", folder, "--guard", folder)
        self.process.wait_for(r"the guard answers")

    def starts(self, *command: object, user: str | None = None) -> bool:
        """Whether a program starts."""
        try:
            done = subprocess.run([*map(str, command)], check=False, capture_output=True, timeout=10, user=user)
        except PermissionError as refused:
            assert refused.strerror == "Operation not permitted"
            return False
        return done.returncode == 0


@pytest.fixture(scope="module")
def rules(portero):
    viewer = {"include": [{"product": "Deckhand-Viewer"}], "exclude": [{"product": "Deckhand-Viewer", "version": {"from": "4.2"}}]}
    portero.application_sets.create(ApplicationSet.model_validate({"key": "viewers", **viewer}))
    stop = {"key": "no-viewers", "kind": "startup", "rules": [{"application_set": "viewers", "action": "block"}]}
    portero.rulesets.create(Ruleset.model_validate(stop))
    portero.assignments.create(assignment("no-viewers", "whole-fleet"))


@pytest.fixture
def guarded(rules, join, tmp_path, request) -> Iterator[Guarded]:
    folder = tmp_path / "programs"
    folder.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "portero", folder], check=True)
    try:
        put_harmless(folder, "Deckhand-Viewer", "4.1")
        put_harmless(folder, "Deckhand-Viewer", "4.2")
        put_harmless(folder, "Tide-Table", "1.0")
        made = Guarded(folder, join(f"guard-{abs(hash(request.node.name)) % 100_000}"))
        eventually(lambda: (made.data / "inventory.json").exists())
        yield made
        made.process.stop()
    finally:
        subprocess.run(["umount", "-l", folder], check=True)


def test_what_is_named_does_not_start_and_what_is_excluded_does(guarded):
    viewer = next(guarded.folder.glob("Deckhand-Viewer-4.1*"))
    eventually(lambda: not guarded.starts(viewer))
    assert guarded.starts(next(guarded.folder.glob("Deckhand-Viewer-4.2*")))
    assert guarded.starts(next(guarded.folder.glob("Tide*")))
    print(run_endpoint("log", "--data", guarded.data).stdout)
    time.sleep(3)
