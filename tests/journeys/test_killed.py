"""Service and endpoint killed with SIGKILL in a stream of changes, activity and visits: what was acknowledged is there
afterwards.
"""

from __future__ import annotations

import random
import re
import sqlite3
import threading
import time
from contextlib import closing

import httpx
import pytest

from conftest import Process, Service, assignment, eventually, ruleset, run_endpoint, signed
from portero.client import AlreadyExists, Portero, PorteroError
from portero.core.nouns.enrolment import NewEnrolmentCode
from thorough import times

pytestmark = [pytest.mark.process, pytest.mark.timeout(times(600, 3600))]
KILLS = times(4, 200)


class Streams:
    """Three that never stop: one changes the estate, one reports activity, one visits what is blocked, through the
    machine's filter. They note what was acknowledged.
    """

    def __init__(self, token: str, credential: str, proxy: int) -> None:
        self.url = ""
        self.references: list[str] = []
        self._proxy = f"http://127.0.0.1:{proxy}"
        self.rulesets: list[str] = []
        self.attempts: list[int] = []
        self.stopping = False
        self._token, self._credential = token, credential
        self._threads = [threading.Thread(target=run, daemon=True) for run in (self._change, self._report, self._visit)]

    @property
    def done(self) -> tuple[int, int, int]:
        """How much of each was acknowledged so far."""
        return len(self.rulesets), len(self.attempts), len(self.references)

    def start(self) -> None:
        for thread in self._threads:
            thread.start()

    def stop(self) -> None:
        self.stopping = True
        for thread in self._threads:
            thread.join(30)

    def _change(self) -> None:
        number = 0
        while not self.stopping:
            key = f"made-{number}"
            try:
                with Portero(self.url, token=self._token, timeout=5) as portero:
                    portero.rulesets.create(ruleset(key, games="block"))
                self.rulesets.append(key)
                number += 1
            except AlreadyExists:
                number += 1  # it was committed, and the answer was lost in the kill
            except PorteroError:
                time.sleep(0.02)

    def _report(self) -> None:
        seq, headers = 1, {"Authorization": f"Bearer {self._credential}"}
        while not self.stopping:
            attempts = [
                {
                    "seq": seq + n,
                    "at": "2026-11-20T10:00:00Z",
                    "url": "http://x.example/",
                    "host": "x.example",
                    "verdict": "block",
                }
                for n in range(5)
            ]
            try:
                url = self.url + "/device/v1/activity"
                answer = httpx.post(url, json={"batch": seq, "attempts": attempts}, headers=headers, timeout=5)
                answer.raise_for_status()
            except httpx.HTTPError:
                time.sleep(0.02)
                continue
            self.attempts += [seq + n for n in range(5)]
            seq += 5
            time.sleep(0.05)  # so that a day's quota lasts for the longest run

    def _visit(self) -> None:
        while not self.stopping:
            try:
                with httpx.Client(proxy=self._proxy, timeout=5) as browser:
                    answer = browser.get("http://lucky-reef.example/")
            except httpx.HTTPError:
                time.sleep(0.02)
                continue
            # whoever sees the notice may call the help desk with its reference
            assert answer.status_code == 403, "what is blocked stays blocked, whatever is killed"
            found = re.search(r"\b[0-9A-Z]{4}-[0-9A-Z]{4}\b", answer.text)
            self.references += [found.group()] if found else []
            time.sleep(0.05)


def _running(folder, port: int) -> Process:
    """The endpoint of a machine, with its filter at a port."""
    machine = Process("portero.endpoint.main", "run", "--data", folder, "--port", port, "--every", 5, "--no-programs")
    machine.wait_for("listens")
    return machine


def _told(portero: Portero) -> set[str | None]:
    return {attempt.reference for attempt in portero.activity.list(device="lives-on")}


def test_nothing_acknowledged_is_lost_the_store_opens_clean_and_devices_go_on(tmp_path):
    service = Service(tmp_path / "data")
    port, password = service.port, service.password
    with service.client() as portero:
        token = signed(portero)["Authorization"].removeprefix("Bearer ")
        code = portero.enrolment.create_code(NewEnrolmentCode(uses=2)).code
        portero.rulesets.create(ruleset("rule", gambling="block"))
        made = portero.assignments.create(assignment("rule", "whole-fleet"))
    facts = {"hostname": "reporter"}
    joined = httpx.post(service.url + "/device/v1/join", json={"code": code, "facts": facts}).json()
    folder = tmp_path / "machine"
    run_endpoint("join", "--service", service.url, "--code", code, "--data", folder, "--hostname", "lives-on")
    machine = _running(folder, 0)
    proxy = int(machine.wait_for(r"HTTP proxy on 127\.0\.0\.1:(\d+)").group(1))

    streams = Streams(token, joined["credential"], proxy)
    streams.url = service.url
    streams.start()
    chance = random.Random(7)
    for _ in range(KILLS):
        before = streams.done
        # each life gets something done, however slow the machine; then it ends at any moment
        eventually(lambda: all(now > was for now, was in zip(streams.done, before, strict=True)), timeout=150)  # noqa: B023
        time.sleep(chance.uniform(0.0, 0.4))
        if chance.random() < 0.5:
            machine.kill()
            machine = _running(folder, proxy)
        service.kill()
        service = Service(tmp_path / "data", port)
    time.sleep(0.5)
    streams.stop()
    assert len(streams.rulesets) >= KILLS, "the streams must really have run"
    assert len(streams.attempts) >= 5 * KILLS
    assert len(streams.references) >= KILLS

    with Portero(service.url, token=token) as portero:
        assert not set(streams.rulesets) - {one.key for one in portero.rulesets.list()}
        kept = [one.seq for one in portero.activity.list(device="reporter")]
        assert not set(streams.attempts) - set(kept)
        assert len(kept) == len(set(kept)), "nothing counts twice"
        eventually(lambda: _told(portero) >= set(streams.references), timeout=150)
        told = [attempt.reference for attempt in portero.activity.list(device="lives-on")]
        assert len(told) == len(set(told)), "nothing counts twice"
        numbers = [revision.number for revision in portero.revisions.list()]
        assert numbers == list(range(len(numbers), 0, -1)), "each revision with its changes, none missing"
        assert all(revision.changes for revision in portero.revisions.list())
        portero.access.sign_in("keeper", password, label="after")
        # the machine is woken by the service that came back, with nothing restarted on it
        portero.assignments.set_state(made.key, "paused")
        eventually(lambda: portero.devices.get("lives-on").rollout.state == "current", timeout=180)
    machine.stop()
    service.stop()
    with closing(sqlite3.connect(tmp_path / "data" / "portero.sqlite3")) as store:
        assert store.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        assert not store.execute("PRAGMA foreign_key_check").fetchall()
