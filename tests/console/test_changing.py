"""Changing with open eyes in the console: previews, warnings, the board, findings, history, the worklist, drafts."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

from conftest import group, ruleset, under
from console.conftest import focus_is_inside, put_in_force
from console.test_controls import add_rule
from console.test_fleet import Keys
from portero.core.nouns.assignment import NewAssignment
from portero.core.nouns.group import Precedence
from portero.core.nouns.ruleset import Ruleset

pytestmark = pytest.mark.process


@pytest.fixture(scope="module")
def opposed(portero, machines):
    """Two groups that share a laptop and say opposite things of music."""
    portero.groups.create(group("laptops", all=[{"field": "kind", "op": "is", "value": "laptop"}]))
    portero.groups.create(group("eastquay", all=[under("brackwater")]))
    portero.rulesets.create(ruleset("away", music="allow"))
    portero.rulesets.create(ruleset("quiet", music="block", news="warn"))
    portero.assignments.create(NewAssignment.model_validate({"ruleset": "away", "to": "eastquay"}))
    portero.assignments.create(NewAssignment.model_validate({"ruleset": "quiet", "to": "laptops"}))
    others = [key for key in portero.groups.order().precedence if key not in ("eastquay", "laptops")]
    portero.groups.put_order(Precedence(precedence=(*others, "eastquay", "laptops")), version=None)
    return portero


def test_a_change_is_looked_at_before_it_is_made_and_back_loses_nothing(console, opposed, axe):
    console.go("/controls/categories/quiet")
    console.get_by_label("Find a category").fill("news")
    console.get_by_role("group", name="News").get_by_role("radio", name="none").check(force=True)
    console.get_by_role("button", name="Save").click()
    looked = console.get_by_role("dialog", name="Before you save: ruleset quiet")
    row = looked.get_by_role("row").filter(has_text="News")
    expect(row).to_contain_text("released")
    expect(row.get_by_role("cell").nth(4)).to_have_text("2")
    expect(looked).to_contain_text("2of 3 machines change")
    expect(looked.get_by_role("button", name="Keep as draft")).to_have_count(0)
    axe()
    looked.get_by_role("button", name="Back to editing").click()
    expect(looked).to_be_hidden()
    assert len(opposed.rulesets.get("quiet").rules) == 2
    expect(console.get_by_role("group", name="News").get_by_role("radio", name="none")).to_be_checked()
    console.get_by_role("button", name="Save").click()
    put_in_force(console, "Season is over")
    expect(console.get_by_role("button", name="Save")).to_be_disabled()
    assert len(opposed.rulesets.get("quiet").rules) == 1
    assert next(opposed.revisions.list(limit=1)).reason == "Season is over"


def test_an_assignment_can_be_kept_as_a_draft_and_idle_ones_are_warned_of(console, opposed):
    console.go("/controls/categories/away")
    console.get_by_role("button", name="Assign to groups").click()
    dialog = console.get_by_role("dialog", name="Assign away")
    dialog.get_by_label("kiosks").check()
    dialog.get_by_role("button", name="Save").click()
    looked = console.get_by_role("dialog", name="Before you save: away on kiosks")
    looked.get_by_role("button", name="Keep as draft").click()
    expect(dialog).to_be_hidden()
    assert opposed.assignments.get("away--kiosks").state == "draft"
    console.get_by_label("Change away--kiosks").click()
    changing = console.get_by_role("dialog", name="Change away--kiosks")
    changing.get_by_label("kiosks").uncheck()
    changing.get_by_label("Single machines").fill("not-there-1")
    expect(changing.get_by_label("What to know of it")).to_contain_text("reaches no machine")
    changing.get_by_role("button", name="Back", exact=True).click()
    opposed.assignments.remove("away--kiosks", version=None)


def test_a_mistyped_host_is_warned_of_and_the_right_one_taken(console, opposed):
    rules = [{"host": "parcel-refund.example", "action": "block"}]
    opposed.rulesets.create(Ruleset.model_validate({"key": "known-hosts", "kind": "indicator", "rules": rules}))
    opposed.rulesets.create(Ruleset.model_validate({"key": "typed", "kind": "indicator", "rules": []}))
    console.go("/controls/indicators/typed")
    add_rule(console, "parcel-refnd.example")
    known = console.get_by_label("What to know of it")
    expect(known).to_contain_text("is nearly parcel-refund.example")
    known.get_by_role("button", name="Take parcel-refund.example").click()
    expect(console.get_by_label("Edit host parcel-refund.example")).to_be_visible()
    expect(known).to_have_count(0)


def test_edits_survive_a_reload_until_they_are_undone(console, opposed):
    console.go("/controls/categories/away")
    console.get_by_label("Find a category").fill("banking")
    banking = console.get_by_role("group", name="Banking").get_by_role("radio", name="block")
    banking.check(force=True)
    console.reload()
    console.get_by_label("Find a category").fill("banking")
    expect(banking).to_be_checked()
    console.get_by_role("button", name="Undo changes").click()
    console.reload()
    console.get_by_label("Find a category").fill("banking")
    expect(banking).not_to_be_checked()
    console.go("/fleet/groups/laptops")
    console.get_by_label("Name").fill("All laptops")
    console.reload()
    expect(console.get_by_label("Name")).to_have_value("All laptops")
    console.get_by_role("button", name="Undo changes").click()


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_the_board_compares_groups_and_says_why(console, opposed, axe, scheme):
    console.emulate_media(color_scheme=scheme)
    console.go("/assignments")
    console.get_by_label("Compare laptops").check()
    console.get_by_label("Compare eastquay").check()
    expect(console).to_have_url(re.compile("groups=laptops,eastquay|groups=laptops%2Ceastquay"))
    panel = console.get_by_role("region", name="eastquay and laptops meet on 2 machines")
    panel = panel.or_(console.get_by_role("region", name="laptops and eastquay meet on 2 machines"))
    music = panel.get_by_role("row").filter(has_text="Music")
    expect(music).to_contain_text("away")
    expect(music).to_contain_text("quiet")
    axe()
    music.get_by_role("button", name="Why: Music").click()
    why = console.get_by_role("dialog", name="Why")
    expect(why.locator(".step").first).to_contain_text("wins")
    expect(why.locator(".step").filter(has_text="quiet on laptops")).to_contain_text("target")
    focus_is_inside(why)
    console.keyboard.press("Escape")
    expect(why).to_be_hidden()
    panel.get_by_label("Category, host, URL or program").fill("lucky-reef.example")
    console.keyboard.press("Enter")
    expect(panel.get_by_role("row").filter(has_text="lucky-reef.example")).to_contain_text(
        "by no-gambling on whole-fleet"
    )
    console.get_by_label("One machine").fill("kiosk-1")
    console.keyboard.press("Enter")
    expect(console.get_by_role("heading", name="What governs kiosk-1")).to_be_visible()
    console.get_by_role("link", name="How groups overlap").click()
    console.get_by_role("button", name=re.compile("laptops and eastquay share 2|eastquay and laptops share 2")).click()
    expect(console.get_by_label("Compare laptops")).to_be_checked()


def test_a_cell_of_the_board_is_opened_and_edited_in_place(console, opposed):
    console.go("/assignments")
    console.get_by_role("button", name="Open quiet on laptops").click()
    cell = console.get_by_role("dialog", name="quiet on laptops")
    expect(cell).to_contain_text("On laptops")
    cell.get_by_role("button", name="Pause…").click()
    put_in_force(console)
    expect(cell).to_be_hidden()
    assert opposed.assignments.get("quiet--laptops").state == "paused"
    opposed.assignments.set_state("quiet--laptops", "active")
    console.get_by_role("button", name="Assign away to kiosks").click()
    dialog = console.get_by_role("dialog", name="Assign away")
    expect(dialog.get_by_label("kiosks")).to_be_checked()
    dialog.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(console.get_by_role("button", name="Open away on kiosks")).to_be_visible()
    opposed.assignments.remove("away--kiosks", version=None)


def test_a_finding_is_accepted_and_another_remedied_with_its_preview(console, opposed, axe):
    console.go("/verify/findings?kind=contradiction")
    detail = console.locator("section.detail")
    expect(detail).to_contain_text("blocks Music")
    axe()
    detail.get_by_role("button", name="Accept it for a while…").click()
    detail.get_by_label("Why it may stay").fill("on purpose")
    detail.get_by_role("button", name="Accept", exact=True).click()
    expect(console.get_by_text("Nothing is to be settled.")).to_be_visible()
    console.get_by_label("accepted too").check()
    expect(detail).to_contain_text("“on purpose”")
    detail.get_by_role("button", name="Open it again").click()
    console.get_by_label("accepted too").uncheck()
    detail.get_by_role("button", name=re.compile("Look at it… Put .* above")).click()
    looked = console.get_by_role("dialog", name="Before you save")
    expect(looked).to_contain_text("Would change the order of groups")
    expect(looked.get_by_role("row").filter(has_text="Music")).to_be_visible()
    before = opposed.groups.order().precedence
    put_in_force(console)
    after = opposed.groups.order().precedence
    assert before != after
    assert sorted(before) == sorted(after)
    console.go("/verify/findings?finding=contradiction.long-settled")
    expect(console.get_by_text("This finding is not there any more.")).to_be_visible()
    console.get_by_role("navigation", name="Findings").get_by_role("link").first.click()
    expect(detail.get_by_role("heading", name="What would settle it")).to_be_visible()


def test_history_is_read_compared_and_restored(console, opposed, axe):
    at = next(opposed.revisions.list(limit=1)).number
    opposed.rulesets.put(ruleset("away", music="allow", news="block"), version=None, reason="Breaking")
    console.go("/roll-out/history")
    expect(console.get_by_role("row").filter(has_text="“Breaking”")).to_be_visible()
    detail = console.locator("section.detail")
    expect(detail).to_contain_text("blocks News")
    detail.get_by_role("button", name=re.compile("as a document.*changed ruleset away")).click()
    expect(detail.locator("pre .added")).to_contain_text("category: news")
    axe()
    console.get_by_role("link", name=str(at), exact=True).click()
    detail.get_by_label("Compare with revision").fill(str(at + 1))
    expect(detail.get_by_role("heading", name=f"From revision {at} to {at + 1}")).to_be_visible()
    detail.get_by_role("button", name=f"Restore {at}…").click()
    put_in_force(console, "too early")
    expect(console).to_have_url(re.compile(f"/history/{at + 2}"))
    assert len(opposed.rulesets.get("away").rules) == 1
    console.go("/fleet/machines/laptop-1?tab=history")
    governs = console.get_by_role("row").filter(has_text="ruleset away")
    expect(governs).to_contain_text(f"revision {at + 2}")


def test_the_overview_is_a_worklist_that_leads_to_the_next_step(console, opposed, axe):
    console.go("/overview")
    work = console.get_by_role("region", name="What needs a decision")
    row = work.get_by_role("row").filter(has_text="has a filter that only records")
    expect(row).to_contain_text("high")
    axe()
    row.get_by_role("link").click()
    expect(console).to_have_url(re.compile("/fleet\\?blocker=layer-observing"))
    expect(console.get_by_role("link", name=re.compile("Verify"))).to_be_visible()


def test_the_board_and_a_finding_by_keyboard_alone(console, opposed):
    keys = Keys(console)
    console.go("/assignments")
    keys.tab_to(console.get_by_label("Compare eastquay"))
    keys.press("Space")
    keys.tab_to(console.get_by_label("Compare laptops"))
    keys.press("Space")
    why = console.get_by_role("button", name="Why: Music")
    expect(why).to_be_visible()
    keys.tab_to(console.get_by_role("button", name="Open quiet on laptops"))
    keys.press("Enter")
    cell = console.get_by_role("dialog", name="quiet on laptops")
    keys.tab_to(cell.get_by_role("button", name="Pause…"))
    keys.press("Enter")
    looked = console.get_by_role("dialog", name="Before you save")
    expect(looked).to_contain_text("machines change")
    keys.tab_to(looked.get_by_role("button", name="Back to editing"))
    keys.press("Enter")
    expect(looked).to_be_hidden()
    assert opposed.assignments.get("quiet--laptops").state == "active"
    console.go("/verify/findings")
    look = console.locator("section.detail").get_by_role("button", name=re.compile("Look at it")).first
    expect(look).to_be_visible()
    keys.tab_to(look)
    keys.press("Enter")
    expect(looked).to_contain_text("Findings")
    focus_is_inside(looked)
    keys.press("Escape")
    expect(looked).to_be_hidden()


def test_who_closes_everything_is_asked_about_weaker_groups(console, portero):
    portero.groups.create(group("closed", any=[{"field": "hostname", "op": "is", "value": "laptop-1"}]))
    order = portero.groups.order()
    first = Precedence(precedence=("closed", *(key for key in order.precedence if key != "closed")))
    portero.groups.put_order(first, version=order.version)
    portero.rulesets.create(ruleset("shut", everything="block"))
    portero.rulesets.create(ruleset("news-goes", news="allow"))
    portero.assignments.create(NewAssignment(ruleset="news-goes", to=("office",)))
    console.go("/controls/categories/shut")
    console.get_by_role("button", name="Assign to groups").click()
    dialog = console.get_by_role("dialog")
    dialog.get_by_label("closed").check()
    question = dialog.get_by_role("group", name="May weaker groups open parts of it?")
    expect(question).to_contain_text("opens")
    expect(question).to_contain_text("1 machine")
    console.keyboard.press("Escape")
    expect(dialog.get_by_role("status")).to_contain_text("Your choices are still here")
    expect(dialog.get_by_label("closed")).to_be_checked()
    expect(dialog.get_by_role("button", name="Save")).to_be_disabled()
    question.get_by_label("No: it stands in place").check()
    expect(dialog.get_by_role("button", name="Save")).to_be_enabled()
    dialog.get_by_role("button", name="Save").click()
    put_in_force(console)
    assert portero.assignments.get("shut--closed").replaces_weaker
