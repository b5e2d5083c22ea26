"""`portero demo` as a newcomer meets it: everything comes up, and starting again finds the data as it was."""

from __future__ import annotations

import socket
from contextlib import closing

import httpx
import pytest

from conftest import Process, eventually, run_portero
from portero.client import Portero
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.readiness import BlockerCode
from portero.demo.history import load

pytestmark = [pytest.mark.process, pytest.mark.timeout(600)]


SETTLED = 235
"""So many machines hold their newest bundle once the demo is up; the others are silent on purpose."""


# what the demo estate is there to show, on which machine
SEEN = [
    ("eastquay-desk-01", "http://brisk-garden.example/", None, "desk-favourites", "allow"),
    ("office-laptop-12", "https://brisk-handover.example/claim/x", None, "fraud-hosts", "block"),
    ("tidewren-purser-01", "http://parcel-refund.example/", "purser-tidewren", "fraud-hosts", "block"),
    ("office-laptop-11", "http://quickdrop.example/", None, "unfit-services", "block"),
    ("finance-laptop-01", "http://quickdrop.example/", None, "audit-drop", "allow"),
]


def free_ports() -> int:
    """The first of four ports in a row that nobody uses."""
    for first in range(18642, 28642, 10):
        try:
            for port in range(first, first + 4):
                with closing(socket.socket()) as tried:
                    tried.bind(("127.0.0.1", port))
            return first
        except OSError:
            continue
    raise AssertionError("no ports")


@pytest.fixture
def start(tmp_path):
    """Starts the demo; what is left of it when the test ends, however that ends, is stopped."""
    started: list[Process] = []

    def make(port: int) -> Process:
        demo = Process("portero.cli.main", "demo", "--data", tmp_path / "demo", "--port", port)
        started.append(demo)
        demo.wait_for("Sign in", 120)
        return demo

    yield make
    for demo in started:
        demo.stop()


def test_the_demo_comes_up_and_is_found_again(start):
    port = free_ports()
    demo = start(port)
    with Portero(f"http://127.0.0.1:{port}") as portero:
        portero.access.sign_in("it-desk", "brackwater-demo", label="tests")
        eventually(lambda: portero.devices.rollout().current == SETTLED, timeout=240, pause=0.5)
        ids = {device.hostname: device.id for device in portero.devices.list()}
        groups = {group.key: group.devices for group in portero.groups.list()}
        assert (groups["bridge"], groups["kiosks"], groups["whole-fleet"], groups["unclaimed"]) == (16, 24, 246, 0)
        with httpx.Client(proxy=f"http://127.0.0.1:{port + 3}") as browser:
            assert "Gambling" in browser.get("http://lucky-reef.example/").text
            assert "nothing stopped you" in browser.get("http://fleet-weather.example/").text
        assert next(portero.activity.list(host="lucky-reef"))
        revision = portero.devices.rollout().revision
        portero.assignments.set_state("course-focus--training", "active", reason="the course begins")
        eventually(lambda: portero.devices.rollout().current >= SETTLED - 1, timeout=120, pause=0.5)
        for name, url, user, winner, verdict in SEEN:
            found = portero.checks.check(Attempt(device=name, url=url, user=user)).intended
            assert (found.verdict, found.layers[-1].winner.ruleset) == (verdict, winner), url
        visit = Attempt(device="eastquay-kiosk-01", url="https://news.example/")
        assert portero.checks.check(visit).intended.verdict == "block"
        started = Attempt(device="tidewren-bridge-01", start={"file": "solitaire"})
        assert portero.checks.check(started).effective.verdict == "block"
        (held,) = portero.assignments.get("no-remote-control--whole-fleet").held_back
        assert (held.name, held.over) == ("Deckhand Viewer 4.2", False)
        # so is nearly each sort of thing that should be settled
        kinds = {item.kind for item in portero.findings.list().items}
        assert kinds >= {
            *("contradiction", "opened-by-weaker", "shadowed", "no-device", "ended", "ending", "owner-gone"),
            "unenforceable",
        }
        # each sort of unready machine is there to be seen
        found = {blocker.code for blocker in portero.readiness.fleet().blockers}
        assert set(BlockerCode) - found == {BlockerCode.LAYER_NOT_REPORTED}
    assert demo.stop() == 0

    demo = start(port)
    with Portero(f"http://127.0.0.1:{port}") as portero:
        portero.access.sign_in("auditor", "brackwater-demo", label="tests")
        assert portero.devices.rollout().revision == revision + 1
        assert {device.hostname: device.id for device in portero.devices.list()} == ids
        assert portero.assignments.get("course-focus--training").state == "active"
    demo.stop()


def test_a_demo_whose_making_was_cut_off_is_made_anew(tmp_path):
    folder = tmp_path / "demo"
    folder.mkdir()
    (folder / "demo.json").write_text("{}")
    (folder / "portero.sqlite3").write_bytes(b"half a store")
    code = load(folder)
    assert load(folder) == code


def test_the_demo_leaves_other_folders_alone(tmp_path):
    (tmp_path / "thesis.txt").write_text("years of work")
    for more in ([], ["--fresh"]):
        told = run_portero("demo", "--data", tmp_path, *more, expect=1).stderr
        assert "name another" in told
    assert (tmp_path / "thesis.txt").read_text() == "years of work"
