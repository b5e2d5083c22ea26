"""Fleet, groups, enrolment and readiness in headless Chromium; the group editor by keyboard alone."""

from __future__ import annotations

import re

import httpx
import pytest
from playwright.sync_api import expect

from conftest import Wire, group, under
from console.conftest import put_in_force
from portero.core.nouns.group import Group, Precedence
from portero.core.nouns.settings import GroupLayers, Settings

pytestmark = [pytest.mark.browser, pytest.mark.process]


class Keys:
    """A person who has no mouse."""

    def __init__(self, page) -> None:
        self._page = page

    def press(self, key: str, times: int = 1) -> None:
        for _ in range(times):
            self._page.keyboard.press(key)

    def tab_to(self, locator, most: int = 120) -> None:
        for _ in range(most):
            if locator.evaluate("one => one === document.activeElement"):
                return
            self.press("Tab")
        raise AssertionError("the keyboard does not get there")

    def type(self, text: str) -> None:
        self._page.keyboard.type(text)


def test_the_overview_says_how_many_enforce_and_leads_to_those_that_do_not(console):
    console.go("/overview")
    filter = console.get_by_role("region", name="Filter")
    expect(filter).to_contain_text("2 of 3 enforce it")
    filter.get_by_role("link", name="layer observing").click()
    expect(console.get_by_role("row")).to_have_count(2)
    expect(console.get_by_role("row").nth(1)).to_contain_text("laptop-2")
    expect(console).to_have_url(re.compile("blocker=layer-observing&layer=filter"))
    console.go("/overview")
    console.get_by_label("Group").select_option("kiosks")
    expect(filter).to_contain_text("1 of 1 enforce it")
    expect(console).to_have_url(re.compile("group=kiosks"))


def test_a_group_is_made_of_what_stands_in_the_way_and_is_usable_at_once(console, portero):
    console.go("/overview")
    row = console.get_by_role("row").filter(has_text="only records, though it is meant to enforce")
    row.get_by_role("link", name="Group of these").click()
    expect(console.get_by_label("Key")).to_have_value("layer-observing-filter")
    expect(console.get_by_role("region", name="Whom it would hold")).to_contain_text("laptop-2")
    console.get_by_role("button", name="Make group").click()
    put_in_force(console)
    expect(console.get_by_role("link", name="layer-observing-filter")).to_be_visible()
    assert portero.groups.get("layer-observing-filter").devices == 1
    console.go("/controls/categories/leeway")
    console.get_by_role("button", name="Assign to groups").click()
    expect(console.get_by_role("checkbox", name="layer-observing-filter")).to_be_visible()


def test_the_group_editor_by_keyboard_alone(console, portero):
    keys = Keys(console)
    console.go("/fleet/groups/+new")
    keys.tab_to(console.get_by_label("Key"))
    keys.type("by-keys")
    keys.tab_to(console.get_by_role("button", name="All of"))
    keys.press("Enter")
    keys.tab_to(console.get_by_label("Value"))
    keys.type("brackwater/office")
    held = console.get_by_role("region", name="Whom it would hold")
    expect(held).to_contain_text("2 machines")
    expect(held).to_contain_text("laptop-1, laptop-2")
    keys.tab_to(console.get_by_role("button", name="None of"))
    keys.press("Enter")
    none = console.get_by_role("group", name="None of these holds")
    keys.press("Shift+Tab", 6)
    keys.tab_to(none.get_by_label("Fact"))
    keys.type("layers.fi")
    expect(none.get_by_label("Operator")).to_have_value("is")
    keys.tab_to(none.get_by_label("Value"))
    keys.type("obs")
    expect(held).to_contain_text("1 machine")
    keys.tab_to(console.get_by_role("button", name="Pin a machine in"))
    keys.press("Enter")
    keys.tab_to(console.get_by_label("Machine pinned in"))
    keys.type("kiosk-1")
    keys.press("Tab")
    keys.type("asked for")
    expect(held).to_contain_text("kiosk-1, laptop-1")
    keys.press("Shift+Tab", 40)
    keys.tab_to(console.get_by_role("button", name="Make group"))
    keys.press("Enter")
    looked = console.get_by_role("dialog", name="Before you save")
    keys.tab_to(looked.get_by_role("button", name="Put in force"))
    keys.press("Enter")
    expect(console).to_have_url(re.compile("/fleet/groups/by-keys$"))
    made = portero.groups.get("by-keys")
    assert made.devices == 2
    assert (made.pins.in_[0].device, made.pins.in_[0].reason) == ("kiosk-1", "asked for")
    assert made.sentence.startswith("unit is under brackwater/office and not (layers.filter is observing)")


def test_an_edit_shows_who_drops_out_and_a_wrong_condition_says_why(console, portero):
    portero.groups.create(group("edited-group", all=[under("brackwater")]))
    console.go("/fleet/groups/edited-group")
    held = console.get_by_role("region", name="Whom it would hold")
    expect(held).to_contain_text("As it is now")
    console.get_by_label("Value").fill("brackwater/terminals")
    expect(held).to_contain_text("−2 would drop out: laptop-1, laptop-2")
    console.get_by_label("Fact").select_option("os.version")
    console.get_by_label("Operator").select_option("below")
    console.get_by_label("Value").fill("new")
    expect(held).to_contain_text("is not a version")
    expect(console.get_by_role("button", name="Save")).to_be_disabled()
    console.get_by_role("button", name="Undo changes").click()
    expect(held).to_contain_text("As it is now")


def test_nested_rules_and_items_survive_being_shown_and_saved(console, portero):
    viewer = {"field": "applications", "op": "has", "value": {"product": "Chart Table", "version": {"below": "4"}}}
    rule = {"all": [under("brackwater"), {"any": [viewer, {"field": "kind", "op": "one_of", "value": ["kiosk"]}]}]}
    made = portero.groups.create(Group.model_validate({"key": "nested", "members": rule}))
    console.go("/fleet/groups/nested")
    expect(console.get_by_label("product")).to_have_value("Chart Table")
    console.get_by_label("Name").fill("Nested rules")
    console.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(console.get_by_role("link", name="Nested rules")).to_be_visible()
    after = portero.groups.get("nested")
    assert (after.members, after.name) == (made.members, "Nested rules")


def test_when_somebody_else_saved_a_group_first_nothing_is_lost(console, portero):
    made = portero.groups.create(group("shared-group", all=[under("brackwater/office")]))
    console.go("/fleet/groups/shared-group")
    console.get_by_label("Value").fill("brackwater/terminals")
    portero.groups.put(group("shared-group", all=[under("brackwater")]), version=made.version)
    expect(console.get_by_role("region", name="Whom it would hold")).to_contain_text("kiosk-1")
    console.get_by_role("button", name="Save").click()
    alert = console.get_by_role("alert")
    expect(alert).to_contain_text("was changed in revision")
    expect(alert.get_by_role("row").filter(has_text="members")).to_contain_text("brackwater/terminals")
    expect(console.get_by_label("Value")).to_have_value("brackwater/terminals")
    console.get_by_role("button", name="Put mine over it").click()
    put_in_force(console)
    expect(alert).to_have_count(0)
    assert portero.groups.get("shared-group").members.all[0].value == "brackwater/terminals"


def test_groups_are_moved_by_keyboard_and_put_in_force_after_a_look(console, portero, axe):
    before = list(portero.groups.order().precedence)
    keys = Keys(console)
    console.go("/fleet/groups/office")
    second = before[1]
    keys.tab_to(console.get_by_role("button", name=f"Move {second}:"))
    keys.press("ArrowUp")
    expect(console.get_by_text(f"{second} is number 1 of {len(before)}")).to_have_count(1)
    keys.press("ArrowDown")
    expect(console.get_by_role("button", name="Look at this order…")).to_have_count(0)
    keys.press("ArrowUp")
    keys.tab_to(console.get_by_role("button", name="Look at this order…"))
    keys.press("Enter")
    dialog = console.get_by_role("dialog")
    expect(dialog).to_contain_text("Would change the order of groups")
    axe()
    keys.tab_to(dialog.get_by_label("Reason"))
    keys.type("by keyboard")
    keys.press("Enter")
    expect(dialog).to_be_hidden()
    order = portero.groups.order().precedence
    assert list(order[:2]) == [second, before[0]]
    assert next(portero.revisions.list(limit=1)).reason == "by keyboard"


def test_groups_are_moved_by_dragging(console, portero):
    before = list(portero.groups.order().precedence)
    console.go("/fleet/groups/office")
    grip = console.get_by_role("button", name=f"Move {before[0]}:")
    target = console.get_by_role("button", name=f"Move {before[1]}:")
    grip.hover()
    console.mouse.down()
    box = target.bounding_box()
    for step in range(8):
        console.mouse.move(box["x"] + 4, box["y"] - 20 + step * 6)
    console.mouse.up()
    expect(console.get_by_role("button", name="Look at this order…")).to_be_visible()
    console.get_by_role("button", name="Undo").click()
    expect(console.get_by_role("button", name="Look at this order…")).to_have_count(0)
    assert list(portero.groups.order().precedence) == before


def test_a_code_is_shown_once_and_the_join_page_follows_it(console, portero, axe, service):
    console.go("/fleet/enrolment")
    console.get_by_role("button", name="New code…").click()
    dialog = console.get_by_role("dialog")
    dialog.get_by_label("What it is for").fill("the second wave")
    dialog.get_by_label("Machines").fill("3")
    axe()
    dialog.get_by_role("button", name="Make code").click()
    link = dialog.get_by_role("link").get_attribute("href")
    code = link.partition("#")[2]
    dialog.get_by_role("button", name="Done").click()
    row = console.get_by_role("row").filter(has_text="the second wave")
    expect(row).to_contain_text("3 of 3")
    assert code not in console.content()

    console.goto(link)
    expect(console.get_by_role("status")).to_contain_text("This code is good for 3 machines until")
    expect(console.locator("#join")).to_have_text(f"portero-endpoint join --service {service.url} \\ --code {code}")
    axe()
    console.get_by_label("Enrolment code").fill("WRONG")
    console.get_by_role("button", name="Check it").click()
    expect(console.get_by_role("status")).to_contain_text("is not known; look for a slip of the pen")
    console.go("/fleet/enrolment")
    console.once("dialog", lambda dialog: dialog.accept())
    row.get_by_role("button", name="Take back").click()
    expect(row).to_contain_text("revoked")


def test_a_list_with_bad_lines_is_told_line_by_line_and_a_good_one_is_taken(console, portero):
    console.go("/fleet/enrolment")
    console.get_by_role("button", name="Machines from a list…").click()
    dialog = console.get_by_role("dialog")
    listed = dialog.get_by_label("or the list itself")
    listed.fill("hostname,kind\nlisted-1,laptop\na b,laptop\n")
    dialog.get_by_role("button", name="Take 2 in").click()
    expect(dialog.get_by_role("alert")).to_contain_text("No machine was taken.")
    expect(dialog.get_by_role("alert")).to_contain_text("line 3, hostname: “a b” is not a hostname")
    listed.fill("hostname,kind\nlisted-1,laptop\nlisted-2,laptop\n")
    dialog.get_by_role("button", name="Take 2 in").click()
    expect(dialog).to_contain_text("2 machines are invited")
    dialog.get_by_role("button", name="Done").click()
    expect(console.get_by_role("link", name="listed-2")).to_be_visible()
    console.get_by_role("link", name="listed-2").click()
    expect(console.get_by_text("invited", exact=True).first).to_be_visible()
    portero.devices.retire("listed-1")
    portero.devices.retire("listed-2")


def test_a_machine_that_joins_again_is_recognised(console, portero, service):
    old = Wire(service, portero, "again-1", serial="AG-1")
    Wire(service, portero, "again-1", serial="AG-1")
    console.go("/fleet/enrolment")
    box = console.get_by_role("region", name="Recognise a machine").filter(has_text="AG-1")
    box.get_by_role("button", name="It is the same").click()
    expect(box).to_have_count(0)
    assert portero.devices.get("again-1").id == old.id
    portero.devices.retire(old.id)


def test_a_machine_is_labelled_shut_out_and_retired_from_its_page(console, portero, service):
    wire = Wire(service, portero, "managed-1")
    console.go("/fleet/machines/managed-1")
    console.get_by_role("button", name="Manage").click()
    console.get_by_text("Labels…").click()
    dialog = console.get_by_role("dialog")
    dialog.get_by_label("Label", exact=True).fill("wave")
    dialog.get_by_label("Value of the label").fill("first")
    dialog.get_by_role("button", name="Save").click()
    expect(console.get_by_text("wave: first")).to_be_visible()
    console.get_by_role("button", name="Manage").click()
    console.get_by_text("Revoke its credential…").click()
    console.get_by_role("dialog").get_by_label("Reason").fill("lost")
    console.get_by_role("button", name="Revoke it").click()
    expect(console.get_by_text("Its credential was revoked").first).to_be_visible()
    assert wire.check_in().status_code == 401
    console.get_by_role("button", name="Manage").click()
    console.get_by_text("Retire…").click()
    console.get_by_role("button", name="Retire it").click()
    expect(console.get_by_text("retired", exact=True).first).to_be_visible()
    console.get_by_role("link", name="History").click()
    expect(console.get_by_role("region", name="History")).to_contain_text("credential revoked by keeper")
    expect(console.get_by_role("region", name="History")).to_contain_text("“lost”")


def test_layers_and_coverage_are_changed(console, portero, axe):
    console.go("/fleet/layers")
    console.get_by_label("Startup layer, for the estate").select_option("observing")
    console.get_by_label("Gateway networks").fill("198.51.100.7/24, nonsense")
    console.get_by_role("button", name="Save").click()
    expect(console.get_by_role("alert")).to_contain_text("“nonsense” is not a network")
    console.get_by_label("Gateway networks").fill("198.51.100.7/24")
    console.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(console.get_by_role("button", name="Save")).to_have_count(0)
    settings = portero.settings.get()
    assert (settings.layers.startup, settings.gateway_networks) == ("observing", ("198.51.100.0/24",))
    console.get_by_role("button", name="For a group…").click()
    dialog = console.get_by_role("dialog")
    dialog.get_by_label("Group").select_option("office")
    dialog.get_by_label("Filter").select_option("observing")
    axe()
    dialog.get_by_role("button", name="Save").click()
    put_in_force(console)
    expect(console.get_by_role("row").filter(has_text="office")).to_contain_text("observing")
    console.get_by_role("button", name="Remove office").click()
    put_in_force(console)
    expect(console.get_by_role("row").filter(has_text="office")).to_have_count(0)

    console.go("/fleet/coverage")
    console.get_by_role("button", name="Edit filter, chromium on any").click()
    dialog = console.get_by_role("dialog")
    dialog.get_by_label("Over https").select_option("none")
    dialog.get_by_label("Source").fill("tried at the desk")
    axe()
    dialog.get_by_role("button", name="Save").click()
    put_in_force(console)
    row = console.get_by_role("row").filter(has_text="tried at the desk")
    expect(row).to_contain_text("edited here")
    row.get_by_role("button", name="Take out").click()
    put_in_force(console)
    expect(row).to_have_count(0)
    answer = httpx.get(console.url.split("/console")[0] + "/join/nothing.js")
    assert answer.status_code == 404


# --- two administrators at once: nothing is undone unseen ---


def test_settings_that_somebody_else_saved_first_are_not_overwritten_unseen(console, portero):
    console.go("/fleet/layers")
    console.get_by_label("Startup layer, for the estate").select_option("off")
    console.get_by_label("Gateway networks").fill("198.51.100.0/24")
    seen = portero.settings.get()
    theirs = Settings.model_validate({"layers": {"filter": "observing"}})
    portero.settings.put(theirs, version=seen.version)
    # the page has heard of it, and keeps what is being edited
    expect(console.get_by_role("region", name="What machines do")).to_contain_text("of 0 enforce it")
    expect(console.get_by_label("Startup layer, for the estate")).to_have_value("off")
    console.get_by_role("button", name="Save").click()
    alert = console.get_by_role("alert")
    expect(alert).to_contain_text("was changed in revision")
    expect(alert.get_by_role("row").filter(has_text="layers")).to_contain_text("filter observing")
    assert portero.settings.get().layers.filter == "observing"
    console.get_by_role("button", name="Take theirs").click()
    expect(console.get_by_label("Filter, for the estate")).to_have_value("observing")
    expect(console.get_by_role("button", name="Save")).to_have_count(0)

    console.get_by_label("Filter, for the estate").select_option("off")
    portero.settings.put(Settings(), version=None)
    expect(console.get_by_role("region", name="What machines do")).not_to_contain_text("of 0 enforce it")
    console.get_by_role("button", name="Save").click()
    console.get_by_role("button", name="Put mine over it").click()
    put_in_force(console)
    expect(console.get_by_role("button", name="Save")).to_have_count(0)
    assert portero.settings.get().layers.filter == "off"
    portero.settings.put(Settings(), version=None)


def test_an_order_that_somebody_else_changed_meanwhile_is_refused_and_kept(console, portero):
    # of two groups there would be one other order, and nothing to disagree about
    portero.groups.create(group("third-to-move", all=[under("brackwater")]))
    before = portero.groups.order()
    keys = Keys(console)
    console.go("/fleet/groups/office")
    keys.tab_to(console.get_by_role("button", name=f"Move {before.precedence[1]}:"))
    keys.press("ArrowUp")
    turned = Precedence(precedence=tuple(reversed(before.precedence)))
    portero.groups.put_order(turned, version=before.version)
    console.get_by_role("button", name="Look at this order…").click()
    alert = console.get_by_role("alert")
    expect(alert).to_contain_text("The order of groups was changed in revision")
    expect(alert.get_by_role("row").filter(has_text="precedence")).to_contain_text(turned.precedence[0])
    assert portero.groups.order().precedence == turned.precedence
    alert.get_by_role("button", name="Take theirs").click()
    first = console.get_by_role("navigation", name="Groups, strongest first").get_by_role("link").first
    expect(first).to_contain_text(turned.precedence[0])
    portero.groups.put_order(Precedence(precedence=before.precedence), version=None)


def test_labels_and_modes_that_changed_under_an_open_dialog_are_refused(console, portero, service):
    wire = Wire(service, portero, "contended-1")
    console.go("/fleet/machines/contended-1")
    console.get_by_role("button", name="Manage").click()
    console.get_by_text("Labels…").click()
    dialog = console.get_by_role("dialog")
    dialog.get_by_label("Label", exact=True).fill("wave")
    dialog.get_by_label("Value of the label").fill("second")
    portero.devices.set_labels(wire.id, {"wave": "first"})
    expect(console.get_by_text("wave: first")).to_have_count(1)
    dialog.get_by_role("button", name="Save").click()
    expect(dialog.get_by_role("alert")).to_contain_text("contended-1 was changed by somebody else")
    assert portero.devices.get(wire.id).labels == {"wave": "first"}
    portero.devices.retire(wire.id)

    portero.layer_modes.put(GroupLayers(group="office", filter="observing"))
    console.go("/fleet/layers")
    console.get_by_role("button", name="Change office").click()
    dialog.get_by_label("Filter").select_option("off")
    portero.layer_modes.put(GroupLayers(group="office", startup="off"), version=None)
    expect(console.get_by_role("row").filter(has_text="office").locator("td").nth(3)).to_have_text("off")
    dialog.get_by_role("button", name="Save").click()
    expect(dialog.get_by_role("alert")).to_contain_text("The set of layer modes “office” was changed in revision")
    dialog.get_by_role("button", name="Back", exact=True).click()
    console.get_by_role("button", name="Change office").click()
    expect(dialog.get_by_label("Startup layer")).to_have_value("off")
    expect(dialog.get_by_label("Filter")).to_have_value("")
    portero.layer_modes.remove("office")
