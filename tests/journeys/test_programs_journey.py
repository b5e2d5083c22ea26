"""Programs, from what a machine has to what may start on it: named with a bound and an exclusion, looked at, assigned,
held back as they come, stopped when the time is over; and left out once the set is frozen.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from conftest import Process, Wire, eventually, run_endpoint, run_portero
from made_programs import portable_executable
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.enrolment import NewEnrolmentCode

pytestmark = pytest.mark.process


class Desk:
    """The command line of an administrator, and a machine whose endpoint looks through a folder of programs."""

    def __init__(self, service, portero, folder: Path) -> None:
        self.env = {"XDG_CONFIG_HOME": str(folder / "config")}
        self.client = portero
        self.programs, self.machine = folder / "programs", folder / "machine"
        self.programs.mkdir()
        self(*("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin"), input=service.password + "\n")
        code = portero.enrolment.create_code(NewEnrolmentCode()).code
        joining = ("join", "--service", service.url, "--code", code, "--hostname", "diag-01", "--data", self.machine)
        run_endpoint(*joining)
        self.install("viewer", "Deckhand Viewer", "Deckhand", "4.1")
        self.install("own", "Deckhand Viewer", "Brackwater Ferries", "4.0")
        self.running: Process | None = None

    def __call__(self, *arguments: object, expect: int = 0, input: str | None = None) -> str:
        return " ".join(run_portero(*arguments, env=self.env, expect=expect, input=input).stdout.split())

    def install(self, name: str, product: str, vendor: str, version: str) -> None:
        made = self.programs / f"{name}-{version}.exe"
        made.write_bytes(portable_executable({"ProductName": product, "CompanyName": vendor, "FileVersion": version}))
        made.chmod(0o755)

    def look(self) -> None:
        """Let the endpoint look through the folder, as it does when it starts."""
        self.stop()
        run = ("portero.endpoint.main", "run", "--data", self.machine, "--port", 0, "--programs", self.programs)
        self.running = Process(*run)
        self.running.wait_for(r"127\.0\.0\.1:(\d+)")

    def stop(self) -> None:
        if self.running is not None:
            self.running.stop()

    def start(self, version: str, after: timedelta = timedelta(), vendor: str = "Deckhand") -> str:
        """What is said of a start, as if it were later."""
        program = {"product": "Deckhand Viewer", "vendor": vendor, "version": version}
        attempt = {"device": "diag-01", "start": program, "at": datetime.now(UTC) + after}
        intended = self.client.checks.check(Attempt.model_validate(attempt)).intended
        is_logged = intended.verdict == "allow" and any(layer.logged for layer in intended.layers)
        return "log" if is_logged else intended.verdict


@pytest.fixture
def desk(service, portero, tmp_path):
    made = Desk(service, portero, tmp_path)
    yield made
    made.stop()


def test_a_new_version_is_held_back_then_stopped_and_a_frozen_set_leaves_it_out(desk, service, portero):
    desk.look()
    eventually(lambda: "Deckhand Viewer" in desk("application", "list"), timeout=40)
    used = {"product": "Deckhand Viewer", "vendor": "Deckhand", "version": "4.1", "file": "viewer-4.1.exe"}
    other = Wire(service, portero, "diag-02")
    other.check_in(programs={"new": [{**used, "path": "C:\\viewer.exe"}]})
    hour = datetime.now(UTC).replace(minute=0, second=0, microsecond=0).isoformat()
    counts = [{"hour": hour, "program": {**used, "path": "C:\\viewer.exe"}, "user": "fitter-2", "starts": 5}]
    other.http.post("/activity", json={"batch": 1, "starts": counts})

    desk("application-set", "set", "viewers", "--include", "product=Deckhand Viewer;version<5")
    desk("application-set", "set", "viewers", "--exclude", "vendor=Brackwater Ferries")
    told = desk("application-set", "show", "viewers")
    assert "It holds Deckhand Viewer on 2 machines, started by 1 person in the last 14 days." in told
    assert "Started in the last 14 days by fitter-2." in told

    desk("ruleset", "create", "no-viewers", "--kind", "startup", "--block", "viewers")
    assigning = ("assign", "no-viewers", "--to", "whole-fleet", "--hold-back", "7")
    looked_at = run_portero(*assigning, "--preview", env=desk.env)
    assert "Deckhand Viewer 4.1" in looked_at.stdout
    assert "started by 1 person in the last 14 days" in " ".join((looked_at.stdout + looked_at.stderr).split())
    assert "only logged for 7 days first" in desk(*assigning)
    assert [desk.start("4.1"), desk.start("4.0", vendor="Brackwater Ferries"), desk.start("5")] == [
        *("block", "allow", "allow")
    ]

    desk.install("viewer", "Deckhand Viewer", "Deckhand", "4.2")
    desk.look()
    eventually(lambda: "4.2" in desk("application", "list", "--search", "deckhand"), timeout=40)
    service.keepers.let_time_pass()
    assert "Deckhand Viewer 4.2" in desk("assignment", "show", "no-viewers--whole-fleet")
    week = timedelta(days=7, minutes=5)
    assert [desk.start("4.2"), desk.start("4.2", week)] == ["log", "block"]

    desk("application-set", "set", "viewers", "--freeze")
    desk.install("viewer", "Deckhand Viewer", "Deckhand", "4.3")
    desk.look()
    eventually(lambda: "4.3" in desk("application", "list", "--search", "deckhand"), timeout=40)
    service.keepers.let_time_pass()
    assert "4.3" not in desk("assignment", "show", "no-viewers--whole-fleet")
    assert "Deckhand Viewer Deckhand – 4.1, 4.2 2 1" in desk("application-set", "show", "viewers")
    assert desk.start("4.3", 4 * week) == "allow"
