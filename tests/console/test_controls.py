"""Authoring in headless Chromium: rules of every kind, application sets, services, schedules, assignments."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from playwright.sync_api import Route, expect

from conftest import Wire
from console.conftest import put_in_force
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.assignment import NewAssignment
from portero.core.nouns.group import Group
from portero.core.nouns.notice import Notice
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.schedule import Schedule
from portero.core.nouns.service import Service

pytestmark = [pytest.mark.browser, pytest.mark.process]


def indicators(key: str, *hosts: str) -> Ruleset:
    rules = [{"host": f"{host}.example", "action": "block"} for host in hosts]
    return Ruleset.model_validate({"key": key, "kind": "indicator", "rules": rules})


def hours(key: str) -> Schedule:
    days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
    return Schedule.model_validate(
        {"key": key, "zone": "UTC", "windows": [{"days": days, "from": "00:00", "to": "00:00"}]}
    )


def add_rule(console, value: str, action: str = "block", **more: str) -> None:
    rules = console.get_by_role("region", name="Rules")
    rules.get_by_label("Which").fill(value)
    rules.get_by_label("Action", exact=True).select_option(action)
    for label, text in more.items():
        rules.get_by_label(label, exact=True).fill(text)
    rules.get_by_role("button", name="Add rule").click()


def test_indicators_are_made_searched_and_acted_on_many_at_a_time(console, portero):
    console.go("/controls/indicators/+new")
    console.get_by_label("Key").fill("fraud")
    for host in ("a-refund.example", "b-refund.example", "c-invoice.example"):
        add_rule(console, host)
    console.get_by_label("What it names").select_option("url")
    add_rule(console, "https://files.example/drop/", "warn", Name="One page", Until="2027-01-31")
    expect(console.get_by_role("status").first).to_contain_text("Blocks a-refund.example")
    console.get_by_role("button", name="Make ruleset").click()
    put_in_force(console)
    expect(console.get_by_role("heading", name="Where it is assigned")).to_be_visible()

    console.get_by_label("Find a rule").fill("refund")
    expect(console.get_by_text("2 of 4 rules")).to_be_visible()
    console.get_by_label("Choose all").check()
    console.get_by_label("Action for the chosen").select_option("warn")
    console.get_by_role("button", name="Apply").click()
    console.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(console.get_by_role("button", name="Save")).to_be_disabled()
    saved = {str(rule.selector): rule for rule in portero.rulesets.get("fraud").rules}
    assert [saved[f"host {name}.example"].action for name in ("a-refund", "b-refund", "c-invoice")] == [
        *("warn", "warn", "block")
    ]
    assert saved["url files.example/drop"].valid_until.isoformat() == "2027-02-01T00:00:00+00:00", "the end of that day"

    console.get_by_label("Find a rule").fill("")
    console.get_by_label("Edit host c-invoice.example").click()
    console.get_by_label("exact: only itself").check()
    console.get_by_role("button", name="Change rule").click()
    console.get_by_label("Choose host a-refund.example").check()
    console.get_by_role("button", name="Take out").click()
    console.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(console.get_by_text("3 of 3 rules")).to_be_visible()
    expect(console.get_by_role("button", name="Save")).to_be_disabled()
    assert {str(rule.selector) for rule in portero.rulesets.get("fraud").rules} == {
        *("host b-refund.example", "host c-invoice.example exact", "url files.example/drop")
    }


def test_a_mistyped_host_is_refused_in_words_and_nothing_is_lost(console, portero):
    portero.rulesets.create(indicators("typing", "a"))
    console.go("/controls/indicators/typing")
    add_rule(console, "https://b.example/path")
    console.get_by_role("button", name="Save").click()
    expect(console.get_by_role("alert")).to_contain_text("without scheme, port and path")
    expect(console.get_by_role("row").filter(has_text="https://b.example/path")).to_be_visible()
    assert len(portero.rulesets.get("typing").rules) == 1


def test_what_somebody_else_saved_meanwhile_is_shown_and_not_overwritten(console, portero):
    seen = portero.rulesets.create(indicators("shared", "a"))
    console.go("/controls/indicators/shared")
    add_rule(console, "mine.example")
    portero.rulesets.put(indicators("shared", "a", "theirs"), version=seen.version)
    console.get_by_role("button", name="Save").click()
    alert = console.get_by_role("alert")
    expect(alert.get_by_role("row").filter(has_text="rules")).to_contain_text("host theirs.example, action block")
    console.get_by_role("button", name="Put mine over it").click()
    put_in_force(console)
    expect(alert).to_be_hidden()
    assert [rule.host for rule in portero.rulesets.get("shared").rules] == ["a.example", "mine.example"]


def test_who_writes_on_before_their_own_save_has_been_read_again_is_in_nobodys_way(console, portero):
    portero.rulesets.create(indicators("quick", "a"))
    console.go("/controls/indicators/quick")
    add_rule(console, "second.example")
    held: list[Route] = []
    console.route(
        "**/api/v1/rulesets/quick",
        lambda route: held.append(route) if route.request.method == "GET" else route.continue_(),
    )
    console.get_by_role("button", name="Save").click()
    put_in_force(console)
    add_rule(console, "third.example")
    for route in held:
        route.continue_()
    console.unroute_all(behavior="wait")
    console.get_by_role("button", name="Save").click()
    put_in_force(console)
    assert held, "what was saved first had not been read again"
    assert [rule.host for rule in portero.rulesets.get("quick").rules] == [
        "a.example",
        "second.example",
        "third.example",
    ]


def test_a_set_is_drawn_up_from_what_was_started_on_a_group(console, portero, service):
    drawn = Wire(service, portero, "drawing-pc", unit="brackwater/drawing")
    table = {"path": "/opt/table", "product": "Plot Table", "vendor": "Plot", "version": "3"}
    drawn.check_in(programs={"new": [table, {"path": "/opt/idle", "product": "Idle Tool"}]})
    hour = datetime.now(UTC).replace(minute=0, second=0, microsecond=0).isoformat()
    counts = [{"hour": hour, "program": table, "user": "draughtsman", "starts": 4}]
    drawn.http.post("/activity", json={"batch": 1, "starts": counts})
    portero.groups.create(Group.model_validate({"key": "drawing", "pins": {"in": ["drawing-pc"]}}))
    console.go("/controls/application-sets/+new")
    console.get_by_label("Key").fill("only-used")
    console.get_by_label("Group whose starts count").select_option("drawing")
    console.get_by_role("button", name="Draw up").click()
    expect(console.get_by_text("1 program started there")).to_be_visible()
    caught = console.get_by_role("region", name="What it catches now")
    expect(caught).to_contain_text("1 program on 1 machine")
    caught.get_by_text("Started by 1 person in the last 14 days").click()
    expect(caught).to_contain_text("draughtsman")
    console.get_by_label("Machine to watch").fill("drawing-pc")
    console.get_by_label("Folder to watch").fill("/srv/unwanted")
    console.get_by_role("button", name="Watch it", exact=True).click()
    expect(console.get_by_role("status").first).to_contain_text("what is put into /srv/unwanted on drawing-pc")
    console.get_by_role("button", name="Make application set").click()
    put_in_force(console)
    expect(console.get_by_role("button", name="Make application set")).to_have_count(0)
    (condition,) = portero.application_sets.get("only-used").include
    assert [(one.device, one.folder) for one in portero.application_sets.get("only-used").watches] == [
        ("drawing-pc", "/srv/unwanted")
    ]
    assert (condition.product, condition.vendor) == ("Plot Table", "Plot")
    console.go("/controls/catalogue?q=plot")
    console.get_by_role("button", name="Plot Table").click()
    expect(console.get_by_role("region", name="Plot Table")).to_contain_text("started 4 times by 1 person on 1 machine")


def test_what_comes_later_is_held_back_and_accepted(console, portero, service):
    wire = Wire(service, portero, "held-pc")
    boat = {"path": "/opt/boat", "product": "Boat Race", "version": "1", "category": "games"}
    wire.check_in(programs={"new": [boat]})
    portero.application_sets.create(
        ApplicationSet.model_validate({"key": "races", "include": [{"product": "Boat Race"}]})
    )
    rules = [{"application_set": "races", "action": "block"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "no-races", "kind": "startup", "rules": rules}))
    console.go("/controls/startup/no-races")
    console.get_by_role("button", name="Assign to groups").click()
    dialog = console.get_by_role("dialog", name="Assign no-races")
    dialog.get_by_label("whole-fleet").check()
    dialog.get_by_label("What its sets take in later").select_option(
        "What its sets take in later is only logged for 7 days"
    )
    dialog.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(console.get_by_text("what comes later only logged for 7 days first")).to_be_visible()
    wire.check_in(programs={"new": [boat, {**boat, "path": "/opt/boat2", "version": "2"}]})
    service.keepers.let_time_pass()
    expect(console.get_by_text("1 version came later")).to_be_visible()
    console.get_by_role("button", name="Change no-races--whole-fleet").click()
    dialog = console.get_by_role("dialog", name="Change no-races--whole-fleet")
    expect(dialog.get_by_label("What its sets take in later")).to_have_value("P7D")
    dialog.get_by_label("Reason").fill("races")
    dialog.get_by_role("button", name="Save").click()
    put_in_force(console)
    console.get_by_role("button", name="Accept Boat Race 2").click()
    put_in_force(console)
    expect(console.get_by_text("1 version came later")).to_be_hidden()
    saved = portero.assignments.get("no-races--whole-fleet")
    assert ([one.version for one in saved.members], saved.came, saved.reason) == (["1", "2"], (), "races")


def test_a_search_term_joins_the_categories(console, portero):
    console.go("/controls/categories/leeway")
    console.get_by_label("Search term or media type").fill("Free Credits")
    console.get_by_role("button", name="Block it").click()
    expect(console.get_by_text("searches for “free credits”")).to_be_visible()
    console.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(console.get_by_role("button", name="Save")).to_be_disabled()
    assert portero.rulesets.get("leeway").rules[-1].search_term == "free credits"


def test_a_schedule_shows_its_week_and_what_it_does_now(console, portero):
    console.go("/controls/schedules/+new")
    console.get_by_label("Key").fill("nights")
    console.get_by_label("Window 1 from").fill("00:00")
    console.get_by_label("Window 1 to").fill("00:00")
    for day in ("Sat", "Sun"):
        console.get_by_role("button", name=day, exact=True).click()
    console.get_by_label("Clock").fill("UTC")
    status = console.get_by_role("status")
    expect(status).to_contain_text("Open; it does not change within a year.")
    event = ["BEGIN:VEVENT", "UID:1", "DTSTART;VALUE=DATE:20270101", "DTEND;VALUE=DATE:20270103", "END:VEVENT"]
    calendar = "\r\n".join(["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:x", *event, "END:VCALENDAR", ""])
    console.set_input_files("#calendar", {"name": "x.ics", "mimeType": "text/calendar", "buffer": calendar.encode()})
    expect(console.get_by_text("2027-01-02")).to_be_visible()
    expect(status).to_contain_text("Open; closes Friday 2027-01-01 00:00.")
    console.get_by_role("button", name="Make schedule").click()
    put_in_force(console)
    expect(console.get_by_role("heading", name="Where it is used")).to_be_visible()
    saved = portero.schedules.get("nights")
    assert (saved.zone, len(saved.days_off), len(saved.windows[0].days)) == ("UTC", 2, 7)
    expect(console.get_by_role("img", name="The week of nights")).to_be_visible()


def test_a_set_of_programs_is_made_and_named_by_a_startup_rule(console, portero):
    console.go("/controls/application-sets/+new")
    console.get_by_label("Key").fill("viewers")
    console.get_by_label("Condition 1: product").fill("Deckhand Viewer")
    console.get_by_label("Condition 1: version bound").select_option("below")
    console.get_by_label("Condition 1: version", exact=True).fill("4.2")
    console.get_by_role("button", name="Exclusion").click()
    console.get_by_label("Exclusion 1: field").select_option("signer")
    console.get_by_label("Exclusion 1: signer").fill("Brackwater IT")
    expect(console.get_by_role("status")).to_contain_text("version below 4.2, but not signer Brackwater IT")
    console.get_by_role("button", name="Make application set").click()
    put_in_force(console)
    expect(console.get_by_role("button", name="Remove application set")).to_be_visible()
    assert portero.application_sets.get("viewers").include[0].version.below == "4.2"

    console.go("/controls/startup/+new")
    console.get_by_label("Key").fill("no-viewers")
    console.get_by_label("Which").select_option("viewers")
    console.get_by_role("button", name="Add rule").click()
    console.get_by_role("button", name="Make ruleset").click()
    put_in_force(console)
    expect(console.get_by_role("heading", name="Where it is assigned")).to_be_visible()
    assert portero.rulesets.get("no-viewers").kind == "startup"
    console.go("/controls/application-sets/viewers")
    expect(console.get_by_text("Named by no-viewers.")).to_be_visible()


def test_a_set_of_many_files_shows_the_first_and_all_when_asked(console, portero):
    files = [{"sha256": f"{number:064x}"} for number in range(60)]
    portero.application_sets.create(ApplicationSet.model_validate({"key": "many", "include": files}))
    console.go("/controls/application-sets/many")
    expect(console.get_by_text("one of 60 SHA-256 digests")).to_be_visible()
    expect(console.get_by_role("group", name="Condition", exact=False)).to_have_count(50)
    console.get_by_role("button", name="Show the other 10").click()
    expect(console.get_by_role("group", name="Condition", exact=False)).to_have_count(60)
    console.get_by_role("button", name="Remove condition 60").click()
    console.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(console.get_by_text("one of 59 SHA-256 digests")).to_be_visible()


def test_a_service_is_made_and_changed_in_its_list(console, portero):
    portero.services.create(Service.model_validate({"key": "safe", "hosts": ["safe.example"], "suitability": 80}))
    console.go("/controls/services")
    console.get_by_role("button", name="New service").click()
    console.get_by_label("Key").fill("drop")
    console.get_by_label("Hosts, one a line").fill("drop.example\nsafe.example")
    console.get_by_role("button", name="Make service").click()
    expect(console.get_by_role("alert")).to_contain_text("“safe.example” is listed by “safe” already")
    console.get_by_label("Hosts, one a line").fill("drop.example")
    console.get_by_label("Suitability, 0 to 100").fill("15")
    console.get_by_role("button", name="Make service").click()
    put_in_force(console)
    row = console.get_by_role("row").filter(has_text="drop.example")
    expect(row).to_contain_text("15")
    console.get_by_label("Edit drop").click()
    console.get_by_label("Decision").select_option("declined")
    console.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(row).to_contain_text("declined")
    assert portero.services.get("drop").decision == "declined"


def test_everything_about_an_assignment_can_be_changed_later(console, portero):
    portero.rulesets.create(indicators("scoped", "a"))
    portero.schedules.create(hours("always"))
    portero.assignments.create(NewAssignment.model_validate({"ruleset": "scoped", "to": "office"}))
    console.go("/controls/indicators/scoped")
    console.get_by_label("Change scoped--office").click()
    dialog = console.get_by_role("dialog", name="Change scoped--office")
    dialog.get_by_label("office").uncheck()
    dialog.get_by_label("kiosks").check()
    dialog.get_by_label("Single machines").fill("laptop-2")
    dialog.get_by_label("Only people in these user groups").fill("crew, pursers")
    dialog.get_by_label("Schedule").select_option("always")
    dialog.get_by_label("Place", exact=True).select_option("off-site")
    dialog.get_by_label("Until", exact=True).fill("2027-03-01 12:00")
    dialog.get_by_label("Mandatory").check()
    dialog.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(dialog).to_be_hidden()
    expect(
        console.get_by_text("On kiosks and laptop-2, for crew and pursers, while off-site, during always")
    ).to_be_visible()
    saved = portero.assignments.get("scoped--office")
    assert (saved.groups, saved.named_devices, saved.mandatory) == (("kiosks",), ("laptop-2",), True)
    assert (saved.place, saved.ends is not None) == ("off-site", True)


def test_a_site_list_cannot_be_for_some_people(console, portero):
    sites = {"key": "kiosk-sites", "kind": "site", "rules": [{"pattern": "*", "action": "block"}]}
    portero.rulesets.create(Ruleset.model_validate(sites))
    console.go("/controls/sites/kiosk-sites")
    console.get_by_role("button", name="Assign to groups").click()
    dialog = console.get_by_role("dialog", name="Assign kiosk-sites")
    expect(dialog.get_by_text("cannot be for some people only")).to_be_visible()
    expect(dialog.get_by_label("Only these people")).to_have_count(0)
    dialog.get_by_label("kiosks").check()
    dialog.get_by_label("In place of what weaker groups have of this kind").check()
    dialog.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(dialog).to_be_hidden()
    assert portero.assignments.get("kiosk-sites--kiosks").replaces_weaker
    console.go("/fleet/machines/kiosk-1")
    console.get_by_label("Address to try").fill("https://news.example/")
    console.keyboard.press("Enter")
    expect(console.get_by_text("Browser, by its site list")).to_be_visible()
    console.go("/fleet/groups/kiosks/site-list")
    expect(console.get_by_text("of which chromium is handed 1 entry")).to_be_visible()
    console.get_by_label("Browser").select_option("firefox")
    expect(console.get_by_role("cell", name="*://*/*")).to_be_visible()
    console.get_by_label("In the form of").select_option("windows")
    with console.expect_download() as download:
        console.get_by_role("link", name="Download the file").click()
    assert '"1"="*://*/*"' in Path(download.value.path()).read_text("utf-16")
    console.go("/fleet/machines/kiosk-1?tab=site-list")
    listed = console.get_by_role("region", name="Site list")
    expect(listed.get_by_label("Browser")).to_have_value("firefox")
    expect(listed.get_by_role("cell", name="*://*/*")).to_be_visible()


def test_addresses_are_tried_in_both_browsers_while_a_list_is_written(console, portero, looked_at):
    rules = [{"pattern": "radio.example", "action": "block"}, {"pattern": "radio.example/plan", "action": "allow"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "radio", "kind": "site", "rules": rules}))
    console.go("/controls/sites/radio")
    console.get_by_label("Addresses, one a line").fill("https://radio.example/plan/studio\nb[d")
    tried = console.get_by_role("table", name="What browsers would make of these addresses")
    expect(tried.get_by_role("row").nth(1)).to_contain_text("radio.example/plan")
    expect(tried.get_by_role("row").nth(1).get_by_text("allow")).to_have_count(2)
    expect(tried.get_by_role("row").nth(2)).to_contain_text("is not a URL")
    # not saved yet
    console.get_by_label("Which").fill("radio.example/plan/studio")
    console.get_by_role("button", name="Add rule").click()
    expect(tried.get_by_role("row").nth(1)).to_contain_text("meant to block")
    expect(tried.get_by_role("row").nth(1).get_by_role("cell").nth(1)).to_contain_text("block")
    expect(tried.get_by_role("row").nth(1).get_by_role("cell").nth(2)).to_contain_text("allow")
    looked_at("addresses tried")


def test_a_list_is_begun_the_other_way_and_what_changes_is_shown(console, portero):
    rules = [{"pattern": "radio.example", "action": "block"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "radio-only", "kind": "site", "rules": rules}))
    console.go("/controls/sites/radio-only")
    start = console.get_by_label("This list")
    expect(start).to_have_value("open")
    start.select_option("closed")
    expect(console.get_by_text("allows radio.example")).to_be_visible()
    expect(start).to_have_value("closed")
    console.get_by_role("button", name="Save").click()
    put_in_force(console)
    kept = portero.rulesets.get("radio-only").rules
    assert [(rule.pattern, rule.action) for rule in kept] == [("*", "block"), ("radio.example", "allow")]


def test_it_is_asked_what_a_browser_gets_that_cannot_say_a_pattern(console, portero):
    portero.rulesets.create(Ruleset.model_validate({"key": "ports", "kind": "site", "rules": []}))
    console.go("/controls/sites/ports")
    console.get_by_label("Which").fill("*.files.example:8443")
    console.get_by_role("button", name="Add rule").click()
    told = console.get_by_role("list", name="What to know of it")
    expect(told.get_by_text("is handed to browsers as files.example:8443")).to_be_visible()
    expect(told.get_by_text("Firefox, on 1 machine, cannot say files.example:8443")).to_be_visible()
    told.get_by_role("button", name="Read it more strictly there").click()
    expect(told.get_by_text("it gets *://*.files.example/* instead")).to_be_visible()
    told.get_by_role("button", name="Take files.example:8443").click()
    console.get_by_role("button", name="Edit pattern files.example:8443").click()
    expect(console.get_by_label("Where a browser cannot say it")).to_have_value("stricter")
    console.get_by_role("region", name="Rules").get_by_label("Name").fill("Files")
    console.get_by_role("button", name="Change rule").click()
    console.get_by_role("button", name="Save", exact=True).click()
    put_in_force(console)
    expect(console.get_by_role("button", name="Save", exact=True)).to_be_disabled()
    (rule,) = portero.rulesets.get("ports").rules
    assert (rule.pattern, rule.reading, rule.name) == ("files.example:8443", "stricter", "Files")


def test_how_much_a_browser_takes_is_edited_and_kept(console, portero):
    console.go("/fleet/coverage")
    console.get_by_role("button", name="Add a row").click()
    dialog = console.get_by_role("dialog", name="Add a row")
    dialog.get_by_label("Control").select_option("site-list")
    dialog.get_by_label("Browser", exact=True).fill("skua")
    dialog.get_by_label("Reads its list").select_option("firefox")
    dialog.get_by_label("Entries of each list").fill("200")
    dialog.get_by_label("Source").fill("tried at the desk")
    dialog.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(dialog).to_be_hidden()
    (row,) = [one for one in portero.coverage.list() if one.browser == "skua"]
    assert (row.family, [limit.entries for limit in row.list_limits], row.policy_file) == ("firefox", [200], None)


def test_a_noun_without_a_page_is_edited_as_its_document_and_nobodys_change_is_lost(console, portero):
    portero.notices.create(Notice(key="watch", text="First"))
    console.go("/controls/objects/notices/watch")
    document = console.get_by_label("Its document, in JSON")
    document.fill('{"key": "watch", "text": "Mine"}')
    portero.notices.put(Notice(key="watch", text="Theirs"))
    console.get_by_role("button", name="Save").click()
    expect(console.get_by_role("alert")).to_contain_text("was changed in revision")
    console.get_by_role("button", name="Take theirs").click()
    expect(document).to_have_value(re.compile("Theirs"))
    for text in ("Second", "Third"):
        document.fill(f'{{"key": "watch", "text": "{text}"}}')
        console.get_by_role("button", name="Save").click()
        put_in_force(console)
        expect(console.get_by_role("button", name="Save")).to_be_disabled()
        assert portero.notices.get("watch").text == text


def test_an_address_list_is_pasted_and_included_in_a_site_list(console, portero, tmp_path):
    (tmp_path / "more.csv").write_text("host,who\nc.example,them\n")
    console.go("/controls/address-lists")
    console.get_by_role("button", name="New address list").click()
    dialog = console.get_by_role("dialog", name="New address list")
    dialog.get_by_label("Key").fill("harbours")
    dialog.get_by_label("Addresses, one a line").fill("a.example # ours\nb.example")
    dialog.get_by_label("Or from a file").set_input_files(tmp_path / "more.csv")
    expect(dialog.get_by_label("3 addresses")).to_be_visible()
    dialog.get_by_role("button", name="Make address list").click()
    put_in_force(console)
    expect(console.get_by_role("row", name="harbours").get_by_text("nothing yet")).to_be_visible()

    console.go("/controls/sites/+new")
    console.get_by_label("Key").fill("harbour-sites")
    console.get_by_role("button", name="Paste patterns").click()
    dialog = console.get_by_role("dialog", name="Paste patterns")
    dialog.get_by_label("Patterns, one a line").fill("x.example\ny.example/live")
    dialog.get_by_role("button", name="Take 2 patterns").click()
    lists = console.get_by_role("region", name="Address lists")
    lists.get_by_label("Address list", exact=True).select_option("harbours")
    lists.get_by_label("What to do about its addresses").select_option("block")
    lists.get_by_role("button", name="Include").click()
    console.get_by_label("Addresses, one a line").fill("https://c.example/")
    expect(console.get_by_role("region", name="Try it").get_by_role("row").nth(1)).to_contain_text("block")
    expect(console.get_by_role("status").first).to_contain_text("and what harbours lists.")
    trying = console.get_by_role("region", name="Try it")
    trying.get_by_label("Tried on machines of").select_option("kiosks")
    trying.get_by_label("Probe set").fill("harbour-probes")
    trying.get_by_role("button", name="Save as 1 probe").click()
    put_in_force(console)
    (probe,) = portero.probe_sets.get("harbour-probes").probes
    assert (probe.to, probe.visit, probe.expect) == ("kiosks", "https://c.example/", "block")
    console.get_by_label("This list").select_option("closed")
    expect(lists.get_by_label("What to do about harbours")).to_have_value("allow")
    console.get_by_role("button", name="Make ruleset").click()
    put_in_force(console)
    expect(console.get_by_role("heading", name="Where it is assigned")).to_be_visible()
    saved = portero.rulesets.get("harbour-sites")
    assert [(rule.pattern, rule.action) for rule in saved.rules] == [
        ("*", "block"),
        ("x.example", "allow"),
        ("y.example/live", "allow"),
    ]
    assert [(one.address_list, one.action) for one in saved.includes] == [("harbours", "allow")]


def test_programs_are_ticked_in_the_catalogue_into_a_set_that_says_what_it_catches(console, portero, service):
    programs = [
        {"path": "/opt/mail", "product": "Gnomon Mail", "vendor": "Gnomon", "version": "1.0", "category": "mail"},
        {"path": "/opt/draw", "product": "Gnomon Draw", "vendor": "Gnomon", "version": "3.1", "signer": "Gnomon"},
    ]
    Wire(service, portero, "ticking-pc").check_in(programs={"new": programs})
    console.go("/controls/catalogue")
    console.get_by_role("button", name="Gnomon Draw").click()
    panel = console.get_by_role("region", name="Gnomon Draw")
    expect(panel.get_by_role("row").nth(1)).to_contain_text("3.1")
    expect(panel.get_by_role("link", name="ticking-pc")).to_be_visible()
    panel.get_by_role("button", name="Correct what it is for").click()
    dialog = console.get_by_role("dialog", name="Correct what Gnomon Draw is for")
    dialog.get_by_label("All its versions are for").select_option("imaging")
    dialog.get_by_label("Why").fill("It draws")
    dialog.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(panel).to_contain_text("machines tell nothing. It draws")
    expect(console.get_by_role("row").filter(has_text="Gnomon Draw")).to_contain_text("corrected")
    panel.get_by_role("button", name="Take the correction back").click()
    put_in_force(console)
    expect(panel).not_to_contain_text("It draws")
    console.get_by_label("Tick Gnomon Draw").check()
    console.get_by_label("Tick Gnomon Mail").check()
    console.get_by_role("button", name="Take them in").click()
    caught = console.get_by_role("region", name="What it catches now")
    expect(caught).to_contain_text("2 programs on 1 machine")
    console.get_by_label("Key").fill("gnomon")
    console.get_by_role("button", name="Remove condition 1").click()
    expect(caught).to_contain_text("1 program on 1 machine")
    console.get_by_role("button", name="Make application set").click()
    put_in_force(console)
    expect(console.get_by_role("button", name="Make application set")).to_have_count(0)
    (condition,) = portero.application_sets.get("gnomon").include
    assert condition.vendor == "Gnomon"

    console.go("/controls/catalogue?q=gnomon")
    left = "Gnomon Mail" if condition.product == "Gnomon Draw" else "Gnomon Draw"
    console.get_by_label(f"Tick {left}").check()
    console.get_by_label("into").select_option("gnomon")
    console.get_by_role("button", name="Take them in").click()
    put_in_force(console)
    expect(console.get_by_text("1 ticked")).to_have_count(0)
    assert len(portero.application_sets.get("gnomon").include) == 2
    console.go("/controls/application-sets/gnomon")
    Wire(service, portero, "ticking-late").check_in(programs={"new": [{**programs[0], "version": "1.1"}]})
    console.reload()
    expect(caught).to_contain_text("Gnomon Mail 1.1 on 1 machine")
    console.get_by_role("button", name="Leave out Gnomon Mail").click()
    expect(console.get_by_label("Exclusion 1: version", exact=True)).to_have_value("1.1")
    expect(caught).to_contain_text("Lets go Gnomon Mail 1.1")
    console.get_by_label("Condition 1: vendor").fill("Others")
    expect(caught).to_contain_text("Lets go")
    console.get_by_label("Condition 1: product").fill("draw")
    expect(console.locator("#of-the-fleet-product option")).to_have_count(1)
    expect(console.locator("#of-the-fleet-product option[value='Gnomon Draw']")).to_have_count(1)


def test_attempts_are_drawn_day_by_day_and_told_in_words(console, portero, service, axe):
    device = Wire(service, portero, "drawn-days")
    today = datetime.now(UTC)
    attempts = [
        {
            "seq": number,
            "at": (today - timedelta(days=number % 3)).isoformat(),
            "url": f"http://drawn-{number % 2}.example/",
            "host": f"drawn-{number % 2}.example",
            "verdict": ("block", "warn")[number % 2],
        }
        for number in range(1, 13)
    ]
    device.http.post("/activity", json={"batch": 1, "attempts": attempts})
    console.goto(service.url + "/console/activity?host=drawn")
    bars = console.get_by_role("list", name="Attempts by the day").get_by_role("listitem")
    expect(bars).to_have_count(14)
    expect(bars.last).to_contain_text(f"{today:%Y-%m-%d}: 4 attempts, 2 stopped, 2 warned of")
    told = "12 attempts in the last 14 days (UTC), at most 4 attempts in one"
    expect(console.get_by_role("figure")).to_contain_text(told)
    heights = [bar.locator(".part.block").bounding_box()["height"] for bar in bars.all()[-3:]]
    assert heights[0] == heights[1] == heights[2] > 20, "half of the highest bar"
    axe()
    console.get_by_label("Verdict").select_option("warn")
    expect(bars.last).to_contain_text("2 attempts, 2 warned of")
    console.get_by_label("Person").fill("somebody")
    expect(bars).to_have_count(0)
