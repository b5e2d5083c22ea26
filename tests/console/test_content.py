"""Web content in headless Chromium: find, taxonomy, feeds, corrections, indicators in bulk."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

from conftest import Process
from console.conftest import put_in_force
from portero.core.nouns.feed import Feed
from portero.core.nouns.ruleset import Ruleset

pytestmark = [pytest.mark.browser, pytest.mark.process]


@pytest.fixture(scope="module")
def outside():
    running = Process("portero.demo.feeds")
    yield running.wait_for(r"(http://127\.0\.0\.1:\d+)").group(1)
    running.stop()


def test_the_search_in_the_bar_looks_a_host_up(console, axe):
    console.go("/overview")
    search = console.get_by_role("searchbox", name="Find a host, a machine or a rule")
    search.fill("lucky-reef.example")
    search.press("Enter")
    panel = console.get_by_role("region", name="Look-up")
    expect(panel).to_contain_text("Gambling")
    expect(panel).to_contain_text("by feeds, by its own entry")
    rules = console.get_by_role("region", name="Rules that touch it")
    expect(rules.get_by_role("row", name="no-gambling")).to_contain_text("whole-fleet")
    axe()
    search.fill("laptop")
    search.press("Enter")
    machines = console.get_by_role("region", name="Machines")
    expect(machines).to_contain_text("laptop-1")
    search.fill("kiosks")
    search.press("Enter")
    # what was found before has gone: it would go from above the link while that is clicked
    expect(machines).to_contain_text("No machine matches")
    machines.get_by_role("link", name="kiosks", exact=True).click()
    expect(console).to_have_url(re.compile("/fleet/groups/kiosks$"))


def test_a_host_is_corrected_from_its_activity_and_the_correction_taken_back(console, portero, axe):
    console.go("/activity")
    console.get_by_role("button", name="Correct… the categories of lucky-reef.example").first.click()
    dialog = console.get_by_role("dialog", name="Correct a host’s categories")
    expect(dialog.get_by_label("Host, and all below it")).to_have_value("lucky-reef.example")
    dialog.get_by_label("Find a category").fill("casinos")
    dialog.get_by_label("Gambling").check()
    dialog.get_by_label("Find a category").fill("")
    dialog.get_by_label("Games").check()
    dialog.get_by_role("button", name="Remove Gambling").click()
    expect(dialog.get_by_label("Gambling")).not_to_be_checked()
    dialog.get_by_label("Why").fill("A quiz, not a casino")
    axe()
    dialog.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(dialog).to_be_hidden()
    assert portero.categories.look_up("lucky-reef.example").categories == ("games",)
    console.go("/controls/corrections")
    row = console.get_by_role("row", name="lucky-reef.example")
    expect(row).to_contain_text("gambling")
    expect(row).to_contain_text("keeper")
    axe()
    row.get_by_role("button", name="Take back lucky-reef.example").click()
    put_in_force(console)
    expect(console.get_by_text("Nothing is corrected.")).to_be_visible()


def test_a_category_is_tried_from_the_taxonomy_by_keyboard(console, axe):
    console.go("/controls/taxonomy")
    console.get_by_label("Find a category").fill("betting")
    expect(console.get_by_role("link", name="gambling.category.test")).to_be_visible()
    axe()
    console.get_by_role("button", name="Try it… with Gambling").focus()
    console.keyboard.press("Enter")
    dialog = console.get_by_role("dialog", name="Try it on a machine")
    dialog.get_by_role("combobox", name="Machine").fill("kiosk-1")
    expect(dialog).to_contain_text("no-gambling on whole-fleet blocks it, mandatory")
    axe()


def test_a_feed_is_made_read_looked_at_and_put_back(console, portero, outside, axe, tmp_path):
    console.go("/controls/feeds")
    expect(console.get_by_text("There is no feed yet")).to_be_visible()
    console.get_by_role("button", name="New feed…").click()
    dialog = console.get_by_role("dialog", name="New feed")
    dialog.get_by_label("Key").fill("harbour")
    dialog.get_by_role("textbox", name="Address").fill(f"{outside}/harbour-list.csv")
    dialog.get_by_label("Its words and our categories").fill("betting = gambling\nstreaming = video-streaming")
    dialog.get_by_label("may be on a private address").check()
    dialog.get_by_label("Licence").fill("CC BY 4.0")
    axe()
    dialog.get_by_role("button", name="Make feed").click()
    put_in_force(console)
    console.get_by_role("button", name="Read it now").click()
    generations = console.get_by_role("region", name="Generations")
    expect(generations.get_by_role("row", name="in force")).to_be_visible(timeout=20_000)
    expect(console.get_by_text("nautical (1)")).to_be_visible()

    file = tmp_path / "list.csv"
    file.write_text("lucky-reef.example,games\nnew.example,gambling\n")
    console.locator("#feed-file").set_input_files(file)
    console.get_by_label("let it wait").check()
    console.get_by_role("button", name="Send", exact=True).click()
    waiting = console.get_by_role("region", name="Waiting")
    expect(waiting).to_contain_text("Generation 2 waits to be looked at.", timeout=20_000)
    generations.get_by_role("row", name="waiting").get_by_role("button", name="What it changes").click()
    changes = console.get_by_role("region", name="What it changes")
    expect(changes).to_contain_text("1 new, 1 changed")
    expect(changes.get_by_role("row", name="new.example").first).to_contain_text("no-gambling on whole-fleet")
    axe()
    waiting.get_by_role("button", name="Put it in force").click()
    expect(waiting).to_be_hidden()
    assert portero.categories.look_up("new.example").categories == ("gambling",)
    console.get_by_role("button", name="Go back one").click()
    expect(console.get_by_text("Put back, so its schedule rests.")).to_be_visible()
    assert portero.categories.look_up("new.example").categories == ("uncategorised",)


def test_a_feed_leads_to_each_ruleset_that_takes_it_in_whatever_its_kind(console, portero):
    given = {"key": "watch", "kind": "indicators", "format": "stix", "action": "block"}
    portero.feeds.create(Feed.model_validate(given))
    for key, kind in (("watch", "indicator"), ("watch-files", "startup")):
        portero.rulesets.create(Ruleset.model_validate({"key": key, "kind": kind, "feed": "watch"}))
    console.go("/controls/feeds/watch")
    feed = console.get_by_role("region", name="Feed", exact=True)
    expect(feed).to_contain_text("in watch and watch-files")
    feed.get_by_role("link", name="watch-files").click()
    expect(console).to_have_url(re.compile("/controls/startup/watch-files$"))
    expect(console.get_by_role("heading", name="watch-files")).to_be_visible()


def test_a_feed_that_fails_says_why(console, portero):
    given = {"kind": "categories", "format": "csv", "address": "http://127.0.0.1:9/none.csv", "private_network": True}
    portero.feeds.create(Feed.model_validate({"key": "broken", **given}))
    portero.feeds.poll("broken")
    portero.feeds.finished("broken")
    console.go("/controls/feeds/broken")
    expect(console.get_by_role("alert")).to_contain_text("What was in force stays in force.")


def test_rules_from_a_file_are_weighed_previewed_and_put_in(console, portero, axe, tmp_path):
    rules = [{"host": "parcel.example", "action": "block"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "from-files", "kind": "indicator", "rules": rules}))
    console.go("/controls/indicators/from-files")
    console.get_by_role("button", name="From a file…").click()
    dialog = console.get_by_role("dialog", name="Rules from a file into from-files")
    file = tmp_path / "rules.csv"
    file.write_text(
        "selector,value,action\nhost,parcel.example,block\nhost,www.parcel.example,block\n"
        "host,lucky-reef.example,block\nhost,no host,block\n"
    )
    dialog.get_by_label("CSV, or a STIX 2.1 bundle").set_input_files(file)
    expect(dialog).to_contain_text("2 new")
    expect(dialog).to_contain_text("1 overlap with what there is")
    expect(dialog).to_contain_text("line 5: “no host” is not a web host")
    expect(dialog.get_by_role("row", name="lucky-reef.example")).to_be_visible()
    axe()
    dialog.get_by_role("button", name="Preview and put in…").click()
    put_in_force(console)
    expect(dialog).to_be_hidden()
    expect(console.get_by_text("3 of 3 rules")).to_be_visible()


def test_a_long_list_is_searched_by_the_service_and_changed_at_once(console, portero, axe):
    rules = [{"host": f"h{n}.long.example", "action": "block"} for n in range(1_500)]
    portero.rulesets.create(Ruleset.model_validate({"key": "long", "kind": "indicator", "rules": rules}))
    console.go("/controls/indicators/long")
    listed = console.get_by_role("region", name="Indicators")
    expect(listed.get_by_role("status")).to_have_text("1,500 rules")
    listed.get_by_label("Find an indicator").fill("h77.")
    expect(listed.get_by_role("status")).to_have_text("1 rule")
    listed.get_by_label("Choose host h77.long.example").check()
    listed.get_by_role("button", name="Take 1 out…").click()
    put_in_force(console)
    expect(listed.get_by_text("No indicator matches.")).to_be_visible()
    listed.get_by_label("Which").fill("one-more.example")
    listed.get_by_role("button", name="Add rule…").click()
    put_in_force(console)
    expect(listed.get_by_label("Which")).to_have_value("")
    selectors = {str(rule.selector) for rule in portero.rulesets.get("long").rules}
    assert "host one-more.example" in selectors
    assert "host h77.long.example" not in selectors
    axe()


def test_capacity_is_shown_and_cleaned_up(console, portero, axe):
    rules = [{"host": "gone.example", "action": "block", "valid_until": "2020-01-01T00:00:00Z"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "old", "kind": "indicator", "rules": rules}))
    console.go("/controls/indicators/+all")
    meter = console.get_by_role("region", name="Capacity")
    expect(meter).to_contain_text("of 200,000 indicators on a machine")
    axe()
    meter.get_by_role("link", name="Bounds").click()
    form = console.get_by_role("form", name="Settings of the estate")
    form.get_by_label("Indicators that a machine may have to carry").fill("5000")
    form.get_by_label("Days for which a host counts").fill("45")
    axe()
    form.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(form.get_by_role("button", name="Save")).to_be_hidden()
    console.go_back()
    expect(meter).to_contain_text("of 5,000 indicators on a machine")
    assert portero.settings.get().newly_registered_days == 45
    meter.get_by_role("button", name="Clean up…").click()
    dialog = console.get_by_role("dialog", name="Clean up indicators")
    expect(dialog.get_by_role("row", name="host gone.example")).to_contain_text("ended")
    axe()
    dialog.get_by_label("within a wider one that says the same").uncheck()
    dialog.get_by_role("button", name="Take 1 out…").click()
    put_in_force(console)
    assert portero.rulesets.get("old").rules == ()
