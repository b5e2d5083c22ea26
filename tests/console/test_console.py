"""The console in headless Chromium, by mouse and by keyboard, light and dark."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

from conftest import ruleset
from console.conftest import put_in_force, sync
from portero.core.nouns.assignment import NewAssignment
from portero.core.nouns.ruleset import Ruleset

pytestmark = [pytest.mark.browser, pytest.mark.process]


def test_signing_in_goes_back_to_where_one_wanted_to_go(page, service, machines):
    page.goto(service.url + "/console/activity?host=reef")
    page.get_by_label("Name").fill("keeper")
    page.get_by_label("Password").fill("wrong")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("Name or password is wrong")
    page.get_by_label("Password").fill(service.password)
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(r"/console/activity\?host=reef$"))
    page.get_by_role("button", name="keeper").click()
    page.get_by_text("Sign out").click()
    expect(page.get_by_label("Password")).to_be_visible()


def test_the_fleet_is_searched_filtered_and_sorted_in_the_address(console):
    console.go("/fleet")
    expect(console.get_by_role("row")).to_have_count(4)
    console.get_by_label("Hostname, unit or serial").fill("eastquay")
    expect(console.get_by_role("row")).to_have_count(2)
    expect(console).to_have_url(re.compile("search=eastquay"))
    console.reload()
    expect(console.get_by_role("link", name="kiosk-1")).to_be_visible()
    console.get_by_role("button", name="Show all").click()
    console.get_by_label("Group", exact=True).select_option("office")
    expect(console.get_by_role("row")).to_have_count(3)
    console.get_by_role("button", name="Machine").click()
    expect(console.get_by_role("row").nth(1)).to_contain_text("laptop-2")
    console.get_by_label("Hostname, unit or serial").fill("nothing-like-it")
    expect(console.get_by_text("No machine matches these filters.")).to_be_visible()


def test_a_machines_page_says_what_it_blocks_and_why(console):
    console.go("/fleet")
    console.get_by_role("link", name="laptop-1").click()
    expect(console.get_by_role("heading", name="laptop-1")).to_be_visible()
    row = console.get_by_role("row").filter(has_text="no-gambling on whole-fleet")
    expect(row).to_contain_text("mandatory")
    expect(row.get_by_text("block")).to_have_count(2)
    console.get_by_label("Address to try").fill("https://tide-and-dice.example/")
    console.get_by_role("button", name="Try", exact=True).click()
    ladder = console.locator(".ladder").first
    expect(ladder).to_contain_text("no-gambling on whole-fleet blocks it, mandatory")
    expect(ladder.locator(".step").nth(0)).to_contain_text("wins")
    expect(ladder.locator(".step").nth(1)).to_contain_text("is mandatory, and an ordinary rule cannot undo it")
    expect(console.get_by_text("Over https the filter sees no page")).to_be_visible()
    console.get_by_label("Address to try").fill("ftp://x.example/")
    console.keyboard.press("Enter")
    expect(console.get_by_text("not visited over http or https")).to_be_visible()


def test_a_machine_that_only_records_shows_its_gaps_first(console):
    console.go("/fleet/machines/laptop-2")
    expect(console.get_by_text("gaps: meant and done differ")).to_be_visible()
    expect(console.get_by_text("only records, so nothing is stopped")).to_be_visible()
    first = console.get_by_role("row").nth(2)
    expect(first).to_contain_text("warn")
    expect(first).to_contain_text("allow")


def test_from_a_ruleset_to_a_block_by_keyboard_alone(console, portero):
    console.go("/overview")
    console.get_by_role("heading", name="Overview").wait_for()

    def press(key: str, times: int = 1) -> None:
        for _ in range(times):
            console.keyboard.press(key)

    def tab_to(locator, most: int = 90) -> None:
        for _ in range(most):
            if locator.evaluate("one => one === document.activeElement"):
                return
            press("Tab")
        raise AssertionError("the keyboard does not get there")

    console.go("/controls/categories/+new")
    tab_to(console.get_by_label("Key"))
    console.keyboard.type("quiet-keys")
    tab_to(console.get_by_label("Find a category"))
    console.keyboard.type("music")
    picker = console.get_by_role("group", name="Music")
    tab_to(picker.get_by_role("radio").first)
    press("ArrowRight", 3)
    expect(console.get_by_role("status").filter(has_text="Will be:")).to_contain_text("Blocks Music.")
    press("Shift+Tab", 8)
    tab_to(console.get_by_role("button", name="Make ruleset"))
    press("Enter")
    looked = console.get_by_role("dialog", name="Before you save")
    expect(looked).to_contain_text("No verdict becomes another.")
    tab_to(looked.get_by_role("button", name="Put in force"))
    press("Enter")
    expect(looked).to_be_hidden()
    expect(console.get_by_text("Nowhere yet, so it does nothing.")).to_be_visible()
    tab_to(console.get_by_role("button", name="Assign to groups"))
    press("Enter")
    dialog = console.get_by_role("dialog", name="Assign quiet-keys")
    expect(dialog).to_be_visible()
    tab_to(dialog.get_by_role("checkbox", name="office"))
    press("Space")
    tab_to(dialog.get_by_label("Reason"))
    console.keyboard.type("by keyboard")
    press("Enter")
    expect(looked).to_contain_text("Music")
    tab_to(looked.get_by_label("Reason"))
    press("Enter")
    expect(looked).to_be_hidden()
    expect(dialog).to_be_hidden()
    expect(console.get_by_text("in force", exact=True)).to_be_visible()
    made = portero.assignments.get("quiet-keys--office")
    assert (made.state, made.reason, made.sentence) == ("active", "by keyboard", "On office: blocks Music.")
    tab_to(console.get_by_role("button", name="Pause quiet-keys--office"))
    press("Enter")
    expect(looked).to_contain_text("released")
    tab_to(looked.get_by_role("button", name="Put in force"))
    press("Enter")
    expect(console.get_by_role("button", name="Put quiet-keys--office in force")).to_be_visible()
    assert portero.assignments.get("quiet-keys--office").state == "paused"


def test_families_and_categories_are_edited_and_the_sentence_follows(console, portero):
    portero.rulesets.create(
        Ruleset.model_validate(
            {"key": "edited", "kind": "category", "rules": [{"category": "news", "action": "warn", "note": "keep me"}]}
        )
    )
    console.go("/controls/categories/edited")
    pastime = console.get_by_role("group", name="The whole family Pastime")
    pastime.get_by_role("radio", name="block").check(force=True)
    sentence = console.get_by_role("status").filter(has_text=re.compile("Will be|Does"))
    expect(sentence).to_contain_text("Blocks all of Pastime; warns on News.")
    console.get_by_role("group", name="Everything that no other rule names").get_by_role("radio", name="log").check(
        force=True
    )
    expect(sentence).to_contain_text("only records everything else")
    console.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(sentence).to_contain_text("Does:")
    rules = portero.rulesets.get("edited").rules
    assert [(str(rule.selector), rule.action.value) for rule in rules] == [
        ("category news", "warn"),
        ("family pastime", "block"),
        ("everything", "log"),
    ]
    assert rules[0].note == "keep me"


def test_when_somebody_else_saved_first_both_versions_are_shown_and_nothing_is_lost(console, portero):
    made = portero.rulesets.create(ruleset("contested", news="warn"))
    console.go("/controls/categories/contested")
    console.get_by_label("Find a category").fill("banking")
    console.get_by_role("group", name="Banking").get_by_role("radio", name="block").check(force=True)
    portero.rulesets.put(ruleset("contested", news="allow"), version=made.version)
    console.get_by_role("button", name="Save").click()
    expect(console.get_by_role("alert")).to_contain_text("was changed in revision")
    expect(console.get_by_role("row", name=re.compile("rules"))).to_contain_text("category news, action allow")
    expect(console.get_by_role("group", name="Banking").get_by_role("radio", name="block")).to_be_checked()
    console.get_by_role("button", name="Put mine over it").click()
    put_in_force(console)
    expect(console.get_by_role("alert")).to_have_count(0)
    assert portero.rulesets.get("contested").sentence == "Blocks Banking; warns on News."


def test_unsaved_changes_are_not_lost_by_a_click_elsewhere(console, portero):
    console.go("/controls/categories/leeway")
    console.get_by_label("Find a category").fill("banking")
    console.get_by_role("group", name="Banking").get_by_role("radio", name="warn").check(force=True)
    console.once("dialog", lambda dialog: dialog.dismiss())
    console.get_by_role("link", name="Roll-out").click()
    expect(console.get_by_role("heading", name="Web categories")).to_be_visible()
    console.once("dialog", lambda dialog: dialog.accept())
    console.get_by_role("link", name="Roll-out").click()
    expect(console.get_by_role("heading", name="Roll-out")).to_be_visible()


def test_the_roll_out_moves_by_itself(console, portero, service, machines):
    console.go("/roll-out")
    counted = console.get_by_role("region", name="Roll-out, counted")
    before = int(re.search(r"(\d+)\s+waiting", counted.inner_text()).group(1))
    assignment = next(one for one in portero.assignments.list() if one.ruleset == "leeway")
    portero.assignments.set_state(assignment.key, "paused")
    expect(console.get_by_role("link", name="laptop-1")).to_be_visible()
    expect(console.get_by_text("Paused assignment leeway--office").first).to_be_visible()
    for credential in machines.values():
        sync(service, credential)
    expect(console.get_by_text("Every machine holds what it should.")).to_be_visible()
    assert before >= 0
    portero.assignments.set_state(assignment.key, "active")


def test_what_was_being_read_when_it_changed_is_read_once_more(console, portero):
    held = []
    console.route("**/api/v1/rulesets", lambda route: held.append((route, route.fetch())), times=1)
    with console.expect_response("**/api/v1/findings?*"), console.expect_response("**/api/v1/stream"):
        console.go("/controls/categories")
    expect(console.get_by_role("navigation", name="Sections")).to_be_visible()
    while not held:
        console.wait_for_timeout(20)
    # findings are read again as soon as the change is heard of
    with console.expect_response("**/api/v1/findings?*"):
        portero.rulesets.create(ruleset("came-between", gambling="warn"))
    ((route, answer),) = held
    route.fulfill(response=answer)
    expect(console.get_by_role("link", name="came-between")).to_be_visible()


def test_what_changed_while_nobody_could_listen_is_read_again(console, portero):
    console.route("**/api/v1/stream", lambda route: route.abort(), times=1)
    console.go("/controls/categories")
    expect(console.get_by_role("link", name="no-gambling")).to_be_visible()
    portero.rulesets.create(ruleset("unheard", gambling="warn"))
    expect(console.get_by_role("link", name="unheard")).to_be_visible()


def test_a_reference_finds_the_record_and_hostile_names_are_only_text(console):
    console.go("/activity")
    expect(console.get_by_text("<img src=x onerror=alert(1)>")).to_be_visible()
    console.get_by_label("Reference on a notice").fill("ABCD-2345")
    expect(console.get_by_role("row")).to_have_count(2)
    expect(console.get_by_role("row").nth(1)).to_contain_text("lucky-reef.example")


@pytest.mark.parametrize("width", [1280, 1024])
def test_no_page_scrolls_sideways(console, portero, width):
    for number in range(14):
        portero.rulesets.create(ruleset(f"column-{width}-{number}", news="log"))
        portero.assignments.create(NewAssignment(ruleset=f"column-{width}-{number}", to=("kiosks",)))
    console.set_viewport_size({"width": width, "height": 800})
    for path in ("/overview", "/fleet", "/controls/categories", "/assignments", "/verify/findings", "/access/audit"):
        console.go(path)
        expect(console.get_by_role("heading", level=1)).to_be_visible()
        expect(console.locator("[aria-busy=true], .placeholder")).to_have_count(0)
        assert console.evaluate("document.documentElement.scrollWidth") <= width, path
    console.set_viewport_size({"width": 1280, "height": 800})


def test_a_revision_can_be_restored_however_the_history_is_filtered(console, portero):
    newest = next(portero.revisions.list(limit=1)).number
    console.go(f"/roll-out/history/{newest - 1}?by=keeper&q=no-gambling")
    expect(console.get_by_role("button", name=f"Restore {newest - 1}")).to_be_visible()
    console.go(f"/roll-out/history/{newest}?q=no-gambling")
    expect(console.get_by_text("Compare with revision")).to_be_visible()
    expect(console.get_by_role("button", name="Restore")).to_have_count(0)
