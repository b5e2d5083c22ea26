"""One dialog for one block; moments as people write them; settings; grounds; copies; a start that is tried."""

from __future__ import annotations

import re
from datetime import UTC, datetime

import pytest
from playwright.sync_api import expect

from conftest import ruleset
from console.conftest import put_in_force
from portero.core.nouns.assignment import NewAssignment
from portero.core.nouns.directory import Directory

pytestmark = [pytest.mark.browser, pytest.mark.process]


def test_something_is_blocked_on_a_machine_in_one_dialog(console, portero, axe):
    console.go("/fleet/machines/laptop-1")
    console.get_by_role("button", name="Block or allow…").click()
    dialog = console.get_by_role("dialog", name="Block or allow on laptop-1")
    dialog.get_by_label("What", exact=True).fill("chess.example/play")
    axe()
    dialog.get_by_role("button", name="Look at what it does").click()
    expect(dialog.get_by_role("alert")).to_contain_text("may mean url:chess.example/play or pattern:chess.example/play")
    dialog.get_by_label("What", exact=True).fill("chess.example\nGambling")
    dialog.get_by_label("Until").fill("nonsense")
    expect(dialog.get_by_text("“nonsense” is not a moment")).to_be_visible()
    expect(dialog.get_by_role("button", name="Look at what it does")).to_be_disabled()
    dialog.get_by_label("Until").fill("2099-12-24")
    expect(dialog.get_by_text("2099-12-25T00:00:00Z")).to_be_visible()
    dialog.get_by_role("button", name="Look at what it does").click()
    put_in_force(console)
    expect(dialog).to_be_hidden()
    kept = portero.rulesets.get("quick-indicator-laptop-1")
    assert [str(rule.selector) for rule in kept.rules] == ["host chess.example"]
    assert kept.rules[0].valid_until == datetime(2099, 12, 25, tzinfo=UTC), "the end of that day"
    assert portero.assignments.get("quick-category-laptop-1--laptop-1").named_devices == ("laptop-1",)
    # the machine's page tells all kinds at once
    expect(console.get_by_role("row", name="chess.example quick-indicator-laptop-1")).to_be_visible()


def test_moments_are_read_on_the_clock_of_the_settings(console, portero, axe):
    console.go("/settings")
    form = console.get_by_role("form", name="Settings of the estate")
    form.get_by_label("Clock").fill("Nowhere/At-all")
    form.get_by_role("button", name="Save").click()
    expect(form.get_by_role("alert")).to_contain_text("Nowhere/At-all")
    form.get_by_label("Clock").fill("Pacific/Auckland")
    form.get_by_label("Seconds between check-ins").fill("90")
    axe()
    form.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(form.get_by_role("button", name="Save")).to_be_hidden()
    assert (portero.settings.get().zone, portero.settings.get().check_in_seconds) == ("Pacific/Auckland", 90)
    portero.rulesets.create(ruleset("for-a-while", music="block"))
    ending = {"ruleset": "for-a-while", "to": ["office"], "ends": "2099-01-01T00:00:00Z"}
    portero.assignments.create(NewAssignment.model_validate(ending))
    console.go("/controls/categories/for-a-while")
    console.get_by_label("Change for-a-while--office").click()
    dialog = console.get_by_role("dialog")
    expect(dialog.get_by_label("Until", exact=True)).to_have_value("2099-01-01 13:00")
    dialog.get_by_label("From", exact=True).fill("2098-06-01")
    expect(dialog.get_by_text("in Pacific/Auckland, 2098-05-31T12:00:00Z")).to_be_visible()
    dialog.get_by_role("button", name="Save").click()
    put_in_force(console)
    saved = portero.assignments.get("for-a-while--office")
    assert (saved.starts, saved.ends) == (
        datetime(2098, 5, 31, 12, tzinfo=UTC),
        datetime(2099, 1, 1, tzinfo=UTC),
    ), "what was not touched stays as it was"
    portero.settings.change(zone="UTC", check_in_seconds=60)


def test_a_ruleset_has_a_ground_is_found_by_it_and_copied(console, portero):
    portero.rulesets.create(ruleset("thin", music="block", news="allow"))
    console.go("/controls/categories/thin")
    console.get_by_label("Ground").fill("bandwidth")
    console.get_by_role("button", name="Save").click()
    put_in_force(console)
    listed = console.get_by_role("navigation", name="Rulesets")
    listed.get_by_label("Find in rulesets").fill("bandwidth")
    expect(listed.get_by_role("link", name="thin")).to_contain_text("2 rules, bandwidth")
    console.on("dialog", lambda dialog: dialog.accept("thin-copy"))
    console.get_by_role("button", name="Copy…").click()
    put_in_force(console)
    expect(console.get_by_role("heading", name="Where it is assigned")).to_be_visible()
    one, other = portero.rulesets.get("thin"), portero.rulesets.get("thin-copy")
    assert (other.rules, other.ground, other.assignments) == (one.rules, "bandwidth", ())


def test_the_taxonomy_is_sifted_by_ground(console, axe):
    console.go("/controls/taxonomy")
    console.get_by_label("Ground").select_option("bandwidth")
    expect(console.get_by_role("row", name="Music music")).to_contain_text("bandwidth")
    expect(console.get_by_role("row", name="Gambling")).to_be_hidden()
    axe()


def test_a_family_is_not_acted_on_while_part_of_it_is_hidden(console, portero):
    portero.rulesets.create(ruleset("sifted", music="block"))
    console.go("/controls/categories/sifted")
    expect(console.get_by_role("group", name="The whole family Pastime")).to_be_visible()
    console.get_by_label("Find a category").fill("music")
    expect(console.get_by_role("group", name="The whole family Pastime")).to_be_hidden()
    expect(console.get_by_text("1 category of 6")).to_be_visible()


def test_a_start_is_tried_as_a_visit_is(console, portero):
    console.go("/fleet/machines/laptop-1")
    console.get_by_label("What to try").select_option("start")
    console.get_by_label("Program to try").fill("Deckhand Viewer")
    console.get_by_label("Version").fill("4.1")
    console.get_by_role("button", name="Try", exact=True).click()
    expect(console.get_by_role("region", name="Try it")).to_contain_text("Intended")
    expect(console.get_by_role("region", name="Try it")).to_contain_text(
        "No rule decides on this program on this machine"
    )


def test_the_search_finds_people_and_references(console, portero, axe):
    people = {"users": ["mate-1"], "user_groups": [{"key": "watch", "users": ["office-1"]}]}
    portero.directory.put(Directory.model_validate(people))
    console.go("/find?q=office-1")
    found = console.get_by_role("region", name="Machines")
    expect(found.get_by_role("link", name="office-1")).to_be_visible()
    expect(found).to_contain_text("watch")
    axe()
    found.get_by_role("link", name="office-1").click()
    expect(console.get_by_label("Person")).to_have_value("office-1")
    console.get_by_label("Find a host, a machine or a rule").fill("abcd-2345")
    console.keyboard.press("Enter")
    attempt = console.get_by_role("region", name="Attempt")
    expect(attempt).to_contain_text("lucky-reef.example")
    expect(attempt.get_by_role("link", name="laptop-1")).to_be_visible()
    axe()


def test_the_fleet_page_counts_what_its_filters_leave(console):
    console.go("/fleet?kind=kiosk")
    head = console.locator("header.head")
    expect(head).to_contain_text(re.compile(r"1 machine matches\s*1 (waiting|current)$"))


def test_an_error_is_said_once_and_whole(console, service):
    console.go("/fleet")
    expect(console.get_by_role("row", name="laptop-1")).to_be_visible()
    console.route("**/api/v1/board*", lambda route: route.abort())
    console.get_by_role("link", name="Assignments").click()
    box = console.get_by_role("main").get_by_role("alert")
    expect(box).to_be_visible(timeout=30_000)
    expect(box).to_have_text(re.compile(r"^\s*The service does not answer\s*Is it running\?\s*Try again\s*$"))
    console.unroute("**/api/v1/board*")
    console.get_by_role("button", name="Try again").click()
    expect(console.get_by_role("table")).to_be_visible()
