"""A set of programs from a command to real programs on the real machine: what is named does not start, what is excluded
does, a newer version does not; told with person and parent, and released again.
"""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import pytest

from conftest import Process, eventually, run_endpoint, run_portero
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.endpoint.test_program import put_test_program

pytestmark = [
    pytest.mark.process,
    pytest.mark.skipif(os.geteuid() != 0, reason="only root may guard a machine"),
]


class Desk:
    """The command line of an administrator, and a machine whose guard looks after a folder."""

    def __init__(self, service, portero, folder: Path) -> None:
        self.env = {"XDG_CONFIG_HOME": str(folder / "config")}
        self.programs, data = folder / "programs", folder / "machine"
        self.programs.mkdir()
        self(*("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin"), input=service.password + "\n")
        code = portero.enrolment.create_code(NewEnrolmentCode()).code
        run_endpoint("join", "--service", service.url, "--code", code, "--hostname", "lab-01", "--data", data)
        self.viewer = put_test_program(self.programs, "Deckhand_Viewer", "4.1")
        self.newer = put_test_program(self.programs, "Deckhand_Viewer", "4.2")
        self.own = put_test_program(self.programs, "Deckhand_Viewer", "4.0")
        run = ("portero.endpoint.main", "run", "--data", data, "--port", 0, "--every", 60)
        self.running = Process(*run, "--programs", self.programs, "--guard", self.programs)
        self.running.wait_for("the guard answers")

    def __call__(self, *arguments: object, input: str | None = None) -> str:
        return " ".join(run_portero(*arguments, env=self.env, input=input).stdout.split())


@pytest.fixture
def desk(service, portero, tmp_path):
    made = Desk(service, portero, tmp_path)
    yield made
    made.running.stop()


def starts(program: Path) -> bool:
    try:
        return subprocess.run([program], check=False).returncode == 0
    except PermissionError:
        return False


def test_a_set_is_assigned_and_pushed_and_its_programs_do_not_start(desk):
    eventually(lambda: "Deckhand Viewer" in desk("application", "list"), timeout=90)
    desk(
        *("application-set", "set", "viewers", "--include", "product=Deckhand Viewer"),
        *("--exclude", "product=Deckhand Viewer;version=4.0"),
    )
    desk("ruleset", "create", "no-viewers", "--kind", "startup")
    desk("rule", "add", "no-viewers", "application_set", "viewers", "--action", "block")
    assert [starts(one) for one in (desk.viewer, desk.newer, desk.own)] == [True, True, True]

    desk("assign", "no-viewers", "--to", "whole-fleet", "--reason", "the course is over")
    assert "The machine holds what it should." in desk("push", "lab-01")
    eventually(lambda: not starts(desk.viewer), timeout=60)
    assert [starts(one) for one in (desk.viewer, desk.newer, desk.own)] == [False, False, True]

    told = eventually(
        lambda: "no-viewers" in (said := desk("activity", "list", "--program", "viewer")) and said, timeout=60
    )
    assert "lab-01 root block Deckhand Viewer no-viewers" in told
    said = desk("check", "start", "lab-01", "--product", "Deckhand Viewer", "--version", "4.1")
    assert "Intended block, effective block" in said
    assert "passed-by: A program that is stopped is not seen" in said

    desk("assignment", "pause", "no-viewers--whole-fleet")
    desk("push", "lab-01")
    eventually(lambda: starts(desk.viewer), timeout=60)
