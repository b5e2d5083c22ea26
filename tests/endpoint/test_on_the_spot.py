"""What is asked at the machine itself: its log, what is new, a visit with a real browser, and leaving."""

from __future__ import annotations

import json
import logging
import os
import socket
import subprocess
from contextlib import closing
from datetime import UTC, datetime

import pytest
from dbus_fast.aio import MessageBus
from dbus_fast.service import ServiceInterface, method

from conftest import Process, assignment, eventually, ruleset, run_async, run_endpoint
from portero.core.nouns.ruleset import Ruleset
from portero.endpoint import desktop, kept_parts, local_log
from portero.endpoint.folder import Folder
from portero.endpoint.kept_parts import gather
from portero.endpoint.local_log import LocalLog

pytestmark = pytest.mark.process


@pytest.fixture(scope="module")
def policy(portero):
    portero.rulesets.create(ruleset("spot-rules", gambling="block"))
    rules = [{"pattern": "stopped.example", "action": "block"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "spot-sites", "kind": "site", "rules": rules}))
    portero.assignments.create(assignment("spot-sites", "whole-fleet"))
    return portero.assignments.create(assignment("spot-rules", "whole-fleet"))


@pytest.fixture
def running(policy, join, tmp_path, request):
    """A machine whose endpoint runs, and the folder that stands in for /etc."""
    folder = join(f"spot-{abs(hash(request.node.name)) % 100_000}")
    etc = tmp_path / "etc"
    program = tmp_path / "bin/hawser"
    program.parent.mkdir()
    program.write_text("#!/bin/sh\n")
    program.chmod(0o755)
    process = Process(
        *("portero.endpoint.main", "run", "--data", folder, "--port", 0, "--every", 60, "--browser-policies", etc),
        *("--programs", program.parent),
    )
    process.wait_for(r"HTTP proxy on 127")
    yield folder, etc, process
    process.stop()


def test_the_log_of_the_machine_tells_what_was_stopped_and_changed(running):
    folder, _, _ = running

    def told() -> str:
        return run_endpoint("log", "--data", folder).stdout

    # the file is there a moment before the log says so
    eventually(lambda: "portero.json was written: chromium has another list of sites" in told())
    assert "applied   revision" in told()
    run_endpoint("visit", "http://lucky-reef.example/", "--data", folder)
    assert "stopped   http://lucky-reef.example/ (spot-rules on whole-fleet blocks it" in told()
    entries = json.loads(run_endpoint("log", "--data", folder, "--last", 1, "--json").stdout)
    assert [entry["what"] for entry in entries] == ["stopped"]


def test_a_machine_that_has_lived_through_nothing_says_so(policy, tmp_path):
    assert "Nothing has been stopped" in run_endpoint("log", "--data", tmp_path).stdout


def test_the_log_stays_within_bounds_and_a_broken_line_says_nothing(tmp_path, monkeypatch):
    monkeypatch.setattr(local_log, "MOST_BYTES", 2_000)
    log, at = LocalLog(Folder(tmp_path)), datetime(2026, 11, 28, 12, tzinfo=UTC)
    for number in range(200):
        log.note(at, "stopped", f"number {number}")
    with (tmp_path / "log.jsonl").open("ab") as file:
        file.write(b'{"at": "2026-')
    found = log.entries(1_000)
    assert found[-1].text == "number 199"
    assert len(found) < 100
    assert sum(path.stat().st_size for path in tmp_path.glob("log.jsonl*")) < 5_000


def test_where_the_system_has_a_log_a_line_is_in_it_too(tmp_path, monkeypatch):
    with closing(socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)) as journal:
        journal.bind(str(tmp_path / "log"))
        journal.settimeout(5)
        monkeypatch.setattr(local_log, "_SYSLOG", tmp_path / "log")
        LocalLog(Folder(tmp_path)).note(datetime(2026, 11, 28, tzinfo=UTC), "tampered", "a file was edited")
        assert b"portero-endpoint: tampered: a file was edited" in journal.recv(1000)
    logging.getLogger("portero-endpoint").handlers.clear()


def test_sync_takes_what_is_new_and_the_endpoint_that_runs_rules_by_it_at_once(running, portero, policy):
    folder, etc, _ = running
    file = etc / "chromium/policies/managed/portero.json"
    eventually(file.exists)
    assert "Up to date: revision" in run_endpoint("sync", "--data", folder).stdout
    portero.assignments.set_state("spot-sites--whole-fleet", "paused")
    told = run_endpoint("sync", "--data", folder).stdout
    assert "pplied revision" in told or "Up to date" in told
    eventually(lambda: not file.exists(), timeout=5)
    portero.assignments.set_state("spot-sites--whole-fleet", "active")
    run_endpoint("sync", "--data", folder)
    eventually(file.exists, timeout=5)


def test_two_processes_of_a_machine_take_what_is_new_at_the_same_time(running, portero, policy):
    """The endpoint that runs is woken as another one syncs: both write to the same folder."""
    folder, _, _ = running
    for number in range(8):
        state = "paused" if number % 2 == 0 else "active"
        portero.assignments.set_state("spot-sites--whole-fleet", state)
        assert not run_endpoint("sync", "--data", folder).stderr
    eventually(lambda: not [path for path in folder.rglob("*") if path.suffix in (".new", ".part")], timeout=5)


def test_a_part_that_another_process_takes_away_meanwhile_is_fetched_once_more(policy, join, monkeypatch):
    fetched: list[str] = []

    async def gathered(http, identity, name, path, have, most):
        await gather(http, identity, name, path, have, most)
        fetched.append(name)
        if fetched.count(name) == 1:
            path.unlink()

    monkeypatch.setattr(kept_parts, "gather", gathered)
    assert not run_endpoint("sync", "--data", join("spot-shared")).stderr
    assert fetched
    assert all(fetched.count(name) == 2 for name in fetched)


def test_leaving_takes_away_what_is_its_own_and_nothing_else(running):
    folder, etc, process = running
    own = etc / "chromium/policies/managed/portero.json"
    eventually(own.exists)
    eventually((folder / "inventory.json").exists)
    others = own.with_name("others.json")
    others.write_text("{}")
    assert "end it first" in run_endpoint("leave", "--data", folder, expect=1).stderr
    process.stop()
    (folder / "notes.txt").write_text("somebody's own")
    told = run_endpoint("leave", "--data", folder).stdout
    assert f"Removed {own}" in told
    assert "portero device retire spot-" in told
    assert not own.exists()
    assert others.exists()
    assert [path.name for path in folder.iterdir()] == ["notes.txt"]
    assert "nothing has joined" in run_endpoint("leave", "--data", folder, expect=1).stderr.lower()


def test_a_policy_file_that_somebody_changed_is_not_removed_on_leaving(running):
    folder, etc, process = running
    own = etc / "chromium/policies/managed/portero.json"
    eventually(own.exists)
    process.stop()
    own.write_text("{}")
    run_endpoint("leave", "--data", folder)
    assert own.exists()


def test_a_real_visit_needs_an_endpoint_that_runs(policy, join):
    folder = join("spot-idle")
    said = run_endpoint("visit", "--real", "http://a.example/", "--data", folder, expect=1).stderr
    assert "does not run here" in said


@pytest.mark.browser
@pytest.mark.skipif(os.geteuid() != 0, reason="only root can show a browser another policy folder than /etc")
def test_a_real_visit_says_which_layer_stopped_it(running):
    folder, etc, _ = running
    eventually((etc / "chromium/policies/managed/portero.json").exists)
    by_list = json.loads(run_endpoint("visit", "--real", "http://stopped.example/", "--data", folder, "--json").stdout)
    assert (by_list["outcome"], by_list["layer"]) == ("stopped", "browser")
    notice = json.loads(
        run_endpoint("visit", "--real", "http://lucky-reef.example/", "--data", folder, "--json").stdout
    )
    assert (notice["outcome"], notice["layer"]) == ("stopped", "filter")
    assert notice["reference"]
    tunnel = run_endpoint("visit", "--real", "https://lucky-reef.example/", "--data", folder).stdout
    assert tunnel.startswith("stopped by the filter  https://lucky-reef.example/")
    nowhere = json.loads(run_endpoint("visit", "--real", "http://nobody.test/", "--data", folder, "--json").stdout)
    assert (nowhere["outcome"], nowhere["layer"]) == ("opened", None), "the filter answers for what it cannot reach"


class Notifications(ServiceInterface):
    """A desktop that shows notifications."""

    def __init__(self) -> None:
        super().__init__("org.freedesktop.Notifications")
        self.shown: list[tuple[str, str]] = []

    @method()
    def Notify(  # noqa: N802 (the specification's name)
        self,
        app: s,  # noqa: F821
        replaces: u,  # noqa: F821
        icon: s,  # noqa: F821
        title: s,  # noqa: F821
        text: s,  # noqa: F821
        actions: "as",  # noqa: F722
        hints: "a{sv}",  # noqa: F722
        timeout: i,  # noqa: F821
    ) -> u:  # noqa: F821
        self.shown.append((title, text))
        return 1


@pytest.fixture
def session_bus(tmp_path, monkeypatch):
    """A session bus of one's own."""
    bus = f"unix:path={tmp_path}/bus"
    daemon = subprocess.Popen(["dbus-daemon", "--session", "--nofork", f"--address={bus}"], stderr=subprocess.DEVNULL)
    eventually((tmp_path / "bus").exists)
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", bus)
    yield bus
    daemon.terminate()
    daemon.wait()


def test_whoever_has_a_desktop_is_shown_a_word(session_bus):
    async def told() -> list[tuple[str, str]]:
        bus, notifications = await MessageBus(bus_address=session_bus).connect(), Notifications()
        bus.export("/org/freedesktop/Notifications", notifications)
        await bus.request_name("org.freedesktop.Notifications")
        assert await desktop.show("firefox has another list of sites")
        bus.disconnect()
        return notifications.shown

    assert run_async(told()) == [("What opens here has changed", "firefox has another list of sites")]


def test_without_a_desktop_nobody_waits_for_one(session_bus, monkeypatch):
    async def told() -> bool:
        return await desktop.show("a word")

    assert run_async(told()) is False, "nobody there shows notifications"
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", "unix:path=/nowhere")
    assert run_async(told()) is False
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", "nonsense")
    assert run_async(told()) is False
    monkeypatch.delenv("DBUS_SESSION_BUS_ADDRESS")
    assert run_async(told()) is False
