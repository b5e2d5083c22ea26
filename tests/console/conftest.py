"""Headless Chromium from Debian, signed in to a small estate."""

from __future__ import annotations

from collections.abc import Iterator
from importlib import resources
from pathlib import Path
from typing import Any

import httpx
import pytest
from playwright.sync_api import Browser, BrowserContext, Locator, Page, expect

from conftest import assignment, group, ruleset, under
from portero.client import Portero
from portero.core.nouns.directory import Directory
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.formats.estate_document import read_estate
from serving import Served

# a machine that is busy with something else is slow, not wrong
expect.set_options(timeout=15_000)
AXE = Path(__file__).parents[2] / "console/node_modules/axe-core/axe.min.js"


@pytest.fixture(scope="module")
def machines(portero: Portero, service: Served) -> dict[str, str]:
    """Three machines that hold their bundle, one of which only records; hostname → credential."""
    portero.groups.create(group("office", all=[under("brackwater/office")]))
    portero.groups.create(group("kiosks", all=[{"field": "kind", "op": "is", "value": "kiosk"}]))
    portero.rulesets.create(ruleset("no-gambling", gambling="block"))
    portero.rulesets.create(ruleset("leeway", family_pastime="warn", gambling="allow"))
    portero.assignments.create(assignment("no-gambling", "whole-fleet", mandatory=True, reason="Owners' decision"))
    portero.assignments.create(assignment("leeway", "office"))
    code = portero.enrolment.create_code(NewEnrolmentCode(uses=10)).code
    credentials = {}
    for hostname, unit, kind, mode in (
        ("laptop-1", "brackwater/office", "laptop", "enforcing"),
        ("laptop-2", "brackwater/office", "laptop", "observing"),
        ("kiosk-1", "brackwater/terminals/eastquay", "kiosk", "enforcing"),
    ):
        facts = {"hostname": hostname, "unit": unit, "kind": kind, "layers": {"filter": mode}}
        if kind == "kiosk":
            facts["browsers"] = [{"name": "firefox", "version": "153.8", "managed": True}]
        joined = httpx.post(service.url + "/device/v1/join", json={"code": code, "facts": facts}).json()
        credentials[hostname] = joined["credential"]
        sync(service, joined["credential"])
    attempt = {
        "seq": 1,
        "at": "2026-11-20T10:00:00Z",
        "url": "http://lucky-reef.example/",
        "host": "lucky-reef.example",
        "user": "office-1",
        "verdict": "block",
        "reference": "ABCD-2345",
    }
    hostile = {**attempt, "seq": 2, "user": "<img src=x onerror=alert(1)>", "reference": "HHHH-2345"}
    batch = {"batch": 1, "attempts": [attempt, hostile]}
    headers = {"Authorization": "Bearer " + credentials["laptop-1"]}
    httpx.post(service.url + "/device/v1/activity", json=batch, headers=headers)
    return credentials


def sync(service: Served, credential: str) -> None:
    """Let a machine take what the service has for it."""
    headers = {"Authorization": "Bearer " + credential}
    offered = httpx.post(service.url + "/device/v1/check-in", json={}, headers=headers).json()
    receipt = {"have": offered["bundle"], "revision": offered["revision"]}
    httpx.post(service.url + "/device/v1/check-in", json=receipt, headers=headers)


@pytest.fixture(scope="module")
def window(browser: Browser, browser_context_args: dict[str, Any], service: Served) -> Iterator[BrowserContext]:
    """A browser's window in which the keeper has signed in, one for each module: what it has loaded it keeps."""
    who = {"name": "keeper", "password": service.password}
    answer = httpx.post(service.url + "/api/v1/session", json=who)
    ((name, value),) = answer.cookies.items()
    made = browser.new_context(**browser_context_args)
    made.add_cookies([{"name": name, "value": value, "url": service.url}])
    yield made
    made.close()


@pytest.fixture
def console(window, service, machines):
    """A page that is signed in, with a function to go somewhere; no error may have been logged at the end."""
    page = window.new_page()
    complaints: list[str] = []
    page.on("pageerror", lambda error: complaints.append(str(error)))
    page.on("console", lambda said: complaints.append(said.text) if "Content Security" in said.text else None)
    page.go = lambda path: page.goto(service.url + "/console" + path)
    yield page
    page.evaluate("localStorage.clear()")
    page.close()
    assert not complaints


def put_in_force(page: Page, reason: str = "") -> None:
    """Look at what a change would do, and make it."""
    dialog = page.get_by_role("dialog", name="Before you save")
    if reason:
        dialog.get_by_label("Reason").fill(reason)
    dialog.get_by_role("button", name="Put in force").click()
    expect(dialog).to_be_hidden()


def focus_is_inside(dialog: Locator) -> None:
    """It is, once the dialog has faded in: only then does it hear keys, and leave the focus where it is put."""
    dialog.page.wait_for_function("dialog => dialog.contains(document.activeElement)", arg=dialog.element_handle())


FADED_IN = """async () => {
  await new Promise(requestAnimationFrame)
  const ending = document.getAnimations().filter(({ effect }) => effect.getComputedTiming().endTime < Infinity)
  await Promise.allSettled(ending.map(({ finished }) => finished))
}"""
"""Waits until what fades in has done so: before that, its colours have too little contrast."""


@pytest.fixture
def axe(console):
    """Asserts that axe finds no violation of WCAG 2.2 AA on the page as it stands, and nothing outside its landmarks;
    of colours alone, where that is asked for.
    """

    def check(colours_alone: bool = False, where: str = "") -> None:
        if not console.evaluate("() => 'axe' in window"):
            console.evaluate(AXE.read_text())
        asked: dict[str, Any] = {"runOnly": ["color-contrast"]}
        if not colours_alone:
            standards = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]
            more = ("target-size", "region", "link-in-text-block", "landmark-unique", "empty-table-header")
            asked = {
                "runOnly": {"type": "tag", "values": standards},
                "rules": {rule: {"enabled": True} for rule in more},
            }
        console.evaluate(FADED_IN)
        quick = {"resultTypes": ["violations"], "preload": False}
        found = console.evaluate("asked => axe.run(document, asked)", asked | quick)
        told = [
            f"{violation['id']}: {violation['help']}: {node['html'][:160]} {node['failureSummary'][:200]}"
            for violation in found["violations"]
            for node in violation["nodes"]
        ]
        assert not told, "\n".join([where, *told])

    return check


@pytest.fixture
def looked_at(console, axe):
    """Asserts that axe finds nothing; in the dark only the colours are others."""

    def look(where: str = "") -> None:
        for scheme in ("light", "dark"):
            console.emulate_media(color_scheme=scheme)
            expect(console.locator("html")).to_have_attribute("data-bs-theme", scheme)
            axe(scheme == "dark", f"{where}, {scheme}")

    return look


@pytest.fixture(scope="module")
def brackwater(service, portero, machines):
    """The demo's estate, with the machines of the console's tests in it."""
    written = read_estate((resources.files("portero.demo") / "brackwater.yaml").read_bytes())
    portero.estate.put(written, revision=None)
    portero.directory.put(Directory.model_validate({"users": ["office-1"]}))
