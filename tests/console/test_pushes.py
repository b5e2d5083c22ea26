"""Push in headless Chromium: the button, receipts that move by themselves, and who may."""

from __future__ import annotations

import httpx
import pytest
from playwright.sync_api import expect

from conftest import assignment, ruleset
from portero.core.nouns.push import NewPush

pytestmark = [pytest.mark.browser, pytest.mark.process]


def check_in(service, credential: str, **message: object) -> httpx.Response:
    headers = {"Authorization": "Bearer " + credential}
    return httpx.post(service.url + "/device/v1/check-in", json=message, headers=headers)


def offered(service, credential: str) -> dict:
    told = check_in(service, credential).json()
    return {"have": told["bundle"], "revision": told["revision"]}


def test_a_push_shows_receipts_as_machines_answer(console, service, machines, looked_at):
    console.go("/fleet/machines/laptop-2")
    console.get_by_role("button", name="Push now").click()
    dialog = console.get_by_role("dialog", name="Push to laptop-2")
    row = dialog.get_by_role("row").filter(has_text="laptop-2")
    expect(row).to_contain_text("waiting")
    expect(dialog.get_by_role("status")).to_contain_text("is out of reach and is told when it comes")
    looked_at("receipts")
    held = offered(service, machines["laptop-2"])
    expect(row).to_contain_text("told")
    check_in(service, machines["laptop-2"], **held, problem="there is no room left on its disk")
    expect(row).to_contain_text("there is no room left on its disk")
    check_in(service, machines["laptop-2"], **held)
    expect(row).to_contain_text("applied")
    expect(dialog.get_by_role("status")).to_have_text("The machine holds what it should.")


def test_pushes_are_listed_and_their_receipts_narrowed_to_a_state(console, service, portero, machines):
    portero.pushes.create(NewPush(group="whole-fleet", reason="before the weekend"))
    check_in(service, machines["laptop-2"], **offered(service, machines["laptop-2"]))
    console.go("/roll-out/pushes")
    expect(console.get_by_role("row").filter(has_text="group whole-fleet")).to_contain_text("“before the weekend”")
    only = console.get_by_role("group", name="Only those that are")
    only.get_by_role("button", name="applied").click()
    expect(console.get_by_role("table", name="Receipts").get_by_role("row")).to_have_count(2)
    expect(console.get_by_role("table", name="Receipts")).to_contain_text("laptop-2")
    only.get_by_role("button", name="applied").click()
    expect(console.get_by_role("table", name="Receipts").get_by_role("row")).to_have_count(1 + len(machines))


@pytest.mark.parametrize("page", ["roll-out", "fleet/groups/whole-fleet", "roll-out/history"])
def test_groups_roll_out_and_the_newest_revision_can_be_pushed(console, portero, page, machines):
    # now they all wait for something
    portero.rulesets.create(ruleset(f"pushed-{abs(hash(page))}", news="warn"))
    portero.assignments.create(assignment(f"pushed-{abs(hash(page))}", "whole-fleet"))
    before = len(portero.pushes.list())
    console.go("/" + page)
    console.get_by_role("button", name="Push now").click()
    expect(console.get_by_role("dialog").get_by_role("status")).to_contain_text("machine")
    assert len(portero.pushes.list()) == before + 1


def test_who_governs_each_browser_is_told_beside_its_list(console, service, portero, machines):
    own = "/etc/chromium/policies/managed/portero.json"
    policy = {"file": own, "state": "kept", "overridden_by": [own.replace("portero", "zz-own")]}
    browsers = [
        {"name": "chromium", "version": "156.0", "managed": True, "policy": policy},
        {"name": "firefox", "version": "153.8", "managed": True, "policy": {"file": "/etc/f", "state": "kept"}},
        {"name": "gullwing", "version": "7.2"},
    ]
    facts = portero.devices.get("laptop-2").facts.model_dump(mode="json", exclude_none=True)
    check_in(service, machines["laptop-2"], facts={**facts, "browsers": browsers})
    console.go("/fleet/machines/laptop-2?tab=site-list")
    browsers = console.get_by_role("region", name="Browsers")
    expect(browsers.get_by_role("row").nth(1)).to_contain_text("somebody else")
    expect(browsers.get_by_role("row").nth(1)).to_contain_text("zz-own.json, and not by its site list")
    expect(browsers.get_by_role("row").nth(2)).to_contain_text("no list of sites is in force")
    expect(browsers.get_by_role("row").nth(3)).to_contain_text("nobody")
    told = {one.name: (one.governed_by, one.newest) for one in portero.devices.browsers("laptop-2")}
    assert told == {"chromium": ("others", True), "firefox": ("portero", True), "gullwing": ("nobody", None)}
