"""The order of the day with a real machine: open before, the change with its probes, stopped after: in both browsers,
over http and https, in private windows, by links and redirects of a search page, by the browsers' own lists, and a
program under the guard. What must stay open does. Evidence is made, checked with no service, and refused once a letter
of it is altered.
"""

from __future__ import annotations

import json
import os
import shutil
import time
from pathlib import Path

import pytest

from conftest import Process, eventually, run_endpoint, run_portero
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.probe_set import ProbeSet
from portero.endpoint.test_program import put_test_program

pytestmark = [
    pytest.mark.process,
    pytest.mark.browser,
    pytest.mark.skipif(os.geteuid() != 0, reason="only root may guard a machine and show browsers their policies"),
]
GAMBLING, LISTED = "gambling.category.test", "shut.example"
BOTH = ("chromium", "firefox")
STOPPED = [
    *({"visit": f"{scheme}://{GAMBLING}/", "browser": name} for scheme in ("http", "https") for name in BOTH),
    {"visit": f"http://{GAMBLING}/", "browser": "chromium", "window": "private"},
    {"visit": f"http://{GAMBLING}/", "browser": "firefox", "window": "private"},
    *({"visit": f"http://{GAMBLING}/", "browser": name, "reached_by": "link"} for name in BOTH),
    *({"visit": f"https://{GAMBLING}/", "browser": name, "reached_by": "redirect"} for name in BOTH),
    *(
        {"visit": f"https://{LISTED}/", "browser": name, "reached_by": way, "layer": "browser"}
        for way in ("typed", "link", "redirect")
        for name in BOTH
    ),
    {"start": {"product": "Deckhand Viewer", "version": "4.1"}},
]
WARNED = [{"visit": "http://games.category.test/", "browser": name} for name in BOTH]
OPEN = [
    # straight after a warning, whose page asks for its icon late
    *({"visit": f"{scheme}://news.category.test/", "browser": name} for scheme in ("https", "http") for name in BOTH),
    *({"visit": "https://news.category.test/", "browser": name, "reached_by": "redirect"} for name in BOTH),
    {"start": {"product": "Tide Table"}},
]


AT_ONCE = [
    (
        "by-filter",
        [{"visit": f"{scheme}://music.category.test/", "browser": "chromium"} for scheme in ("http", "https")],
        ("no-gambling", "category", "music"),
    ),
    ("by-guard", [{"start": {"product": "Tide Table"}}], ("no-viewers", "everything")),
    (
        "by-list",
        [{"visit": "https://listed.example/", "browser": name, "layer": "browser"} for name in BOTH],
        ("listed", "pattern", "listed.example"),
    ),
]
"""Changes that are tried as soon as they are made, without a push."""


class Desk:
    """The command line of an administrator, and a machine with browsers and a guard."""

    def __init__(self, service, portero, folder: Path) -> None:
        self.env, self.folder = {"XDG_CONFIG_HOME": str(folder / "config")}, folder
        self("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin", input=service.password + "\n")
        code = portero.enrolment.create_code(NewEnrolmentCode()).code
        programs, self.data = folder / "programs", folder / "machine"
        programs.mkdir()
        run_endpoint("join", "--service", service.url, "--code", code, "--hostname", "lab-01", "--data", self.data)
        put_test_program(programs, "Deckhand_Viewer", "4.1")
        put_test_program(programs, "Tide_Table", "1.0")
        run = ("portero.endpoint.main", "run", "--data", self.data, "--port", 0, "--every", 60)
        policies = ("--browser-policies", folder / "policies")
        self.running = Process(*run, "--programs", programs, "--guard", programs, *policies)
        self.running.wait_for("the guard answers")

    def __call__(self, *arguments: object, input: str | None = None, expect: int = 0) -> str:
        return run_portero(*arguments, env=self.env, input=input, expect=expect).stdout

    def observed(self, expect: int, *sets: str) -> dict:
        """What came of an observed run of all sets, or of these."""
        return json.loads(self("verify", *sets, "--observe", "--seconds", 120, "--json", expect=expect))


@pytest.fixture
def desk(service, portero, tmp_path):
    if not all(shutil.which(name) for name in ("chromium", "firefox-esr")):
        pytest.fail("Chromium and Firefox are test packages; make test installs them")
    made = Desk(service, portero, tmp_path)
    yield made
    made.running.stop()


def probe_set(key: str, probes: list[dict], expect: str) -> ProbeSet:
    listed = [{**one, "expect": expect} for one in probes]
    return ProbeSet.model_validate({"key": key, "to": [{"device": "lab-01"}], "probes": listed})


def test_open_before_stopped_after_and_proved(desk, portero, tmp_path):
    portero.probe_sets.create(probe_set("is-stopped", STOPPED, "block"))
    portero.probe_sets.create(probe_set("is-warned", WARNED, "warn"))
    portero.probe_sets.create(probe_set("stays-open", OPEN, "allow"))
    eventually(lambda: "Tide Table" in desk("application", "list"), timeout=90)
    before = desk.observed(expect=3)

    passed = {(one["set"], one["number"]): one["passed"] for one in before["results"]}
    assert all(number == (key == "stays-open") for (key, _), number in passed.items()), before["results"]

    desk("ruleset", "create", "no-gambling", "--block", "gambling", "--warn", "games")
    desk("ruleset", "create", "no-viewers", "--kind", "startup")
    desk("application-set", "set", "viewers", "--include", "product=Deckhand Viewer")
    desk("rule", "add", "no-viewers", "application_set", "viewers", "--action", "block")
    desk("assign", "no-viewers", "--to", "whole-fleet")
    desk("ruleset", "create", "listed", "--kind", "site")
    desk("rule", "add", "listed", "pattern", LISTED, "--action", "block")
    desk("assign", "listed", "--to", "whole-fleet")
    prove = ("--prove", f"block http://{GAMBLING}/ on lab-01", "--prove", "stays-open")
    desk("assign", "no-gambling", "--to", "whole-fleet", *prove)
    proof = next(iter(portero.revisions.list())).number
    began = time.monotonic()
    desk("push", "lab-01")
    after = desk.observed(expect=0)
    print(f"observed {time.monotonic() - began:.1f} s after the commit: {after['seconds']} s of trying")
    failed = [one for one in after["results"] if one["passed"] != 1]
    assert not failed, failed
    assert (after["answered"], after.get("disagreements", 0)) == (1, 0)

    seen = json.loads(desk("run", "seen", after["id"], "--json"))
    told = {(one["set"], one["number"]): one["seen"] for one in seen}
    layers = [(one["layer"], one["saw"]) for key, one in sorted(told.items()) if key[0] == "is-stopped"]
    assert layers == [
        *(("filter", "notice"), ("filter", "notice"), ("filter", "refused"), ("filter", "refused")),
        *(("filter", "notice"), ("filter", "notice")),
        *(("filter", "notice"), ("filter", "notice"), ("filter", "refused"), ("filter", "refused")),
        *[("browser", "browser-page")] * 6,
        ("startup", "not-started"),
    ]
    assert all(one["reference"] for one in told.values() if one["saw"] == "notice")
    activity = desk("activity", "list", "--tests", "--limit", 50)
    assert GAMBLING not in activity, "probes are nobody's visits"
    assert "Deckhand" not in activity

    for key, probes, change in AT_ONCE:
        portero.probe_sets.create(probe_set(key, probes, "block"))
        began = time.monotonic()
        desk("rule", "add", *change, "--action", "block")
        desk.observed(0, key)
        print(f"{key}: observed {time.monotonic() - began:.1f} s after the change was begun")

    eventually(lambda: "It is proved" in desk("revision", "show", proof), timeout=30)
    file, key = tmp_path / "evidence.jws", tmp_path / "service.pem"
    desk("evidence", "create", after["id"], "--out", file, "--page", tmp_path / "evidence.html")
    desk("evidence", "key", "--out", key)
    assert f"Evidence 1 of run {after['id']}" in desk("revision", "show", after["revision"])
    assert "All 26 probes come out as expected" in (tmp_path / "evidence.html").read_text()
    assert "The signature is good" in desk("evidence", "verify", file, "--key", key)
    for place in (len(file.read_text()) // 2, 10, -5):
        text = list(file.read_text())
        text[place] = "A" if text[place] != "A" else "B"
        (tmp_path / "altered.jws").write_text("".join(text))
        desk("evidence", "verify", tmp_path / "altered.jws", "--key", key, expect=1)
