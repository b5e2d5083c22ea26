"""Open pages follow what another administrator does, in another browser, without being asked."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

from conftest import assignment, group, ruleset
from console.conftest import put_in_force
from portero.core.nouns.address_list import AddressList
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.correction import Correction
from portero.core.nouns.schedule import Schedule
from portero.core.nouns.service import Service

pytestmark = pytest.mark.browser
WINDOWS = [{"days": ["mon"], "from": "06:00", "to": "18:00"}]


def overlapping(portero, key: str) -> None:
    """A group in which office machines are too, with a ruleset of its own."""
    portero.groups.create(group(key, all=[{"field": "hostname", "op": "starts_with", "value": "laptop"}]))
    portero.rulesets.create(ruleset(f"{key}-rules", news="block"))
    portero.assignments.create(assignment(f"{key}-rules", key))


def set_of(key: str) -> ApplicationSet:
    return ApplicationSet.model_validate({"key": key, "include": [{"product": "Deckhand Viewer"}]})


DONE_ELSEWHERE = {
    "board": ("/assignments", lambda portero: overlapping(portero, "seen-on-board"), "seen-on-board"),
    "overlaps": ("/assignments/overlaps", lambda portero: overlapping(portero, "overlaps-office"), "overlaps-office"),
    "findings": (
        "/verify/findings",
        lambda portero: (
            portero.groups.create(group("empty-room", all=[{"field": "hostname", "op": "is", "value": "nobody"}])),
            portero.assignments.create(assignment("no-gambling", "empty-room")),
        ),
        "empty-room",
    ),
    "schedules": (
        "/controls/schedules",
        lambda portero: portero.schedules.create(Schedule.model_validate({"key": "watch", "windows": WINDOWS})),
        "watch",
    ),
    "services": (
        "/controls/services",
        lambda portero: portero.services.create(Service.model_validate({"key": "drop", "hosts": ["drop.example"]})),
        "drop",
    ),
    "address lists": (
        "/controls/address-lists",
        lambda portero: portero.address_lists.create(AddressList(key="drops", addresses=("drop.example",))),
        "drops",
    ),
    "application sets": (
        "/controls/application-sets",
        lambda portero: portero.application_sets.create(set_of("viewers")),
        "viewers",
    ),
    "corrections": (
        "/controls/corrections",
        lambda portero: portero.corrections.put(
            Correction.model_validate({"host": "seen.example", "categories": ["news"], "reason": "a test"})
        ),
        "seen.example",
    ),
}


@pytest.mark.parametrize("page", DONE_ELSEWHERE)
def test_an_open_page_shows_what_another_administrator_did(page, console, portero):
    path, do, seen = DONE_ELSEWHERE[page]
    with console.expect_response("**/api/v1/stream"):
        console.go(path)
    expect(console.get_by_role("heading", level=1)).to_be_visible()
    expect(console.get_by_text(seen)).to_have_count(0)
    do(portero)
    expect(console.get_by_text(seen).first).to_be_visible()


def test_what_is_made_in_one_browser_appears_in_another(console, browser, browser_context_args, service, portero):
    portero.schedules.create(Schedule.model_validate({"key": "night", "name": "Night watch", "windows": WINDOWS}))
    with browser.new_context(**browser_context_args) as other:
        theirs = other.new_page()
        theirs.goto(service.url + "/console/controls/schedules")
        theirs.get_by_label("Name").fill("keeper")
        theirs.get_by_label("Password").fill(service.password)
        theirs.get_by_role("button", name="Sign in").click()
        expect(theirs.get_by_role("link", name="Night watch")).to_be_visible()
        console.go("/controls/schedules/night")
        console.get_by_label("Name", exact=True).fill("Dog watch")
        console.get_by_role("button", name="Save").click()
        put_in_force(console)
        expect(theirs.get_by_role("link", name=re.compile("Dog watch"))).to_be_visible()


def test_a_stream_that_is_answered_with_an_error_is_asked_for_again(console, portero):
    console.route("**/api/v1/stream", lambda route: route.fulfill(status=502, body="no service behind"), times=1)
    console.go("/controls/services")
    expect(console.get_by_role("heading", level=1)).to_be_visible()
    expect(console.get_by_text("not live, reconnecting")).to_be_visible()
    portero.services.create(Service.model_validate({"key": "meanwhile", "hosts": ["meanwhile.example"]}))
    expect(console.get_by_text("meanwhile").first).to_be_visible()


def test_a_change_is_told_with_its_revision_can_be_followed_and_undone(console, portero):
    console.go("/controls/categories/leeway")
    console.get_by_role("group", name="The whole family Pastime").get_by_role("radio", name="block").check(force=True)
    console.get_by_role("button", name="Save").click()
    console.get_by_role("button", name="Put in force").click()
    expect(console.get_by_role("dialog")).to_have_count(0)
    newest = next(portero.revisions.list(limit=1)).number
    expect(console.get_by_text(re.compile(rf"Revision {newest} is in force; \d+ machines? fetch"))).to_be_visible()
    console.get_by_role("button", name="Undo…").click()
    expect(console.get_by_text(f"Before you save: undo of revision {newest}")).to_be_visible()
    console.get_by_role("button", name="Put in force").click()
    expect(console.get_by_text(f"Revision {newest + 1} is in force")).to_be_visible()
    rules = {str(rule.selector): rule.action for rule in portero.rulesets.get("leeway").rules}
    assert rules["family pastime"] == "warn"
    console.get_by_role("link", name="Follow it").click()
    expect(console.get_by_role("heading", name="Roll-out")).to_be_visible()
    console.get_by_role("button", name="Dismiss").click()
    expect(console.get_by_text("is in force;")).to_have_count(0)


def test_a_change_does_not_wait_until_all_that_is_shown_is_read_again(console, portero):
    """The dialog closes as soon as the change is made, however slow the reading behind it is."""
    console.go("/controls/categories/no-gambling")
    name = console.get_by_label("Name", exact=True)
    name.fill("No gambling at all")
    console.get_by_role("button", name="Save").click()
    expect(console.get_by_role("button", name="Put in force")).to_be_enabled()
    console.route("**/api/v1/rulesets*", lambda route: None)
    console.get_by_role("button", name="Put in force").click()
    expect(console.get_by_role("dialog")).to_have_count(0, timeout=3_000)
    expect(console.get_by_text(re.compile(r"Revision \d+ is (made|in force);"))).to_be_visible()
    console.unroute_all(behavior="ignoreErrors")
