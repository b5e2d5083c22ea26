"""Machines are restricted with one button, say so, and are released with one."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

from portero.core.nouns.attempt import Attempt

pytestmark = [pytest.mark.browser, pytest.mark.process]


def verdict(portero, host: str) -> str:
    attempt = Attempt.model_validate({"device": "laptop-1", "url": f"http://{host}/"})
    return portero.checks.check(attempt).intended.verdict.value


def test_a_machine_is_restricted_shows_it_and_is_released(console, portero, axe):
    console.go("/fleet/machines/laptop-1")
    console.get_by_role("button", name="Restrict…").click()
    dialog = console.get_by_role("dialog", name="Restrict machines")
    expect(dialog.get_by_label("Machines and groups")).to_have_value("laptop-1")
    dialog.get_by_label("Name, under which").fill("lesson")
    expect(dialog.get_by_role("button", name="Put it on")).to_be_disabled()
    dialog.get_by_label("What is blocked").fill("nothing that is known")
    axe()
    dialog.get_by_role("button", name="Put it on").click()
    expect(dialog.get_by_role("alert")).to_contain_text("nothing that is known")
    dialog.get_by_label("What is blocked").fill("chess.example")
    dialog.get_by_label("Reason").fill("Chart lesson")
    dialog.get_by_role("button", name="Put it on").click()
    told = console.get_by_role("dialog", name="The machines are told")
    expect(told.get_by_role("status")).to_contain_text("machine")
    told.get_by_role("button", name="Close").click()
    section = console.get_by_role("region", name="Restricted now")
    row = section.get_by_role("row", name="lesson")
    expect(row).to_contain_text("host chess.example")
    expect(row).to_contain_text("Chart lesson")
    assert verdict(portero, "chess.example") == "block"

    console.go("/fleet/restrictions")
    expect(console.get_by_role("row", name="lesson")).to_contain_text("laptop-1")
    axe()
    console.get_by_role("button", name="Lift lesson on laptop-1").click()
    console.get_by_role("dialog", name="The machines are told").get_by_role("button", name="Close").click()
    expect(console.get_by_text("Nothing is restricted now. Kept, to be put on again: lesson.")).to_be_visible()
    assert verdict(portero, "chess.example") == "allow"


def test_what_was_kept_is_put_on_again_where_the_list_is_narrowed_to(console, portero):
    console.go("/fleet?search=laptop")
    expect(console.get_by_role("status")).to_contain_text("2 machines match")
    console.get_by_role("button", name="Restrict these…").click()
    dialog = console.get_by_role("dialog", name="Restrict machines")
    expect(dialog.get_by_label("Machines and groups")).to_have_value("laptop-1\nlaptop-2")
    dialog.get_by_label("Name, under which").fill("exam")
    dialog.get_by_text("No web at all").click()
    dialog.get_by_label("It ends").select_option("as the machine restarts")
    dialog.get_by_role("button", name="Put it on").click()
    console.get_by_role("dialog", name="The machines are told").get_by_role("button", name="Close").click()
    assert verdict(portero, "anything.example") == "block"
    assert portero.restrictions.list().in_force[0].until_restart
    portero.restrictions.lift("exam")
    console.go("/fleet/restrictions")
    console.get_by_role("button", name="Restrict machines…").click()
    dialog = console.get_by_role("dialog", name="Restrict machines")
    dialog.get_by_label("Machines and groups").fill("laptop-1")
    dialog.get_by_label("Name, under which").fill("exam")
    expect(dialog.get_by_text("put on again with what it blocked before")).to_be_visible()
    dialog.get_by_role("button", name="Put it on").click()
    console.get_by_role("dialog", name="The machines are told").get_by_role("button", name="Close").click()
    expect(console.get_by_role("row", name="exam")).to_contain_text("no web at all")
    portero.restrictions.lift("exam")


def test_groups_are_restricted_from_the_board_for_who_is_signed_in(console, portero):
    groups = [group.key for group in portero.groups.list()]
    console.go("/assignments")
    console.get_by_label(f"Compare {groups[0]}").check()
    console.get_by_role("button", name="Restrict…").click()
    dialog = console.get_by_role("dialog", name="Restrict machines")
    expect(dialog.get_by_label("Machines and groups")).to_have_value(groups[0])
    dialog.get_by_label("Name, under which").fill("study")
    dialog.get_by_label("What is blocked").fill("chess.example")
    dialog.get_by_text("Who is signed in there now").click()
    expect(dialog.get_by_label("Only for")).to_be_disabled()
    dialog.get_by_role("button", name="Put it on").click()
    expect(dialog.get_by_role("alert")).to_contain_text("obody is signed in")
