"""Who uses the service, in a real browser: set up, first and own passwords, administrators, tokens, the audit trail."""

from __future__ import annotations

import re

import httpx
import pytest
from playwright.sync_api import expect

from console.conftest import focus_is_inside
from portero.core.nouns.administrator import AdministratorChange, NewAdministrator
from portero.service.keepers import open_keepers
from serving import PASSWORD, Served

OTHER = "a gull on every mast"


def sign_in(page, service, name, password, to="/overview"):
    page.goto(service.url + "/console" + to)
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill(password)
    page.keyboard.press("Enter")


def test_the_first_administrator_is_made_by_keyboard(page, tmp_path):
    service = Served(open_keepers(tmp_path), without_keeper=True)
    try:
        page.goto(service.url + "/console/fleet")
        expect(page.get_by_text("There is no administrator yet")).to_be_visible()
        page.keyboard.type("AAAA-AAAA-AAAA-AAAA")
        for word in ("harbour-master", PASSWORD):
            page.keyboard.press("Tab")
            page.keyboard.type(word)
        page.keyboard.press("Enter")
        expect(page.get_by_role("alert")).to_contain_text("not the setup code")
        page.get_by_label("Setup code").fill(service.keepers.administrators.setup_code)
        page.keyboard.press("Enter")
        expect(page.get_by_role("button", name="harbour-master")).to_be_visible()
    finally:
        service.stop()


def test_a_first_password_is_changed_before_anything_is_seen(page, service, portero):
    with portero.access.session("keeper", service.password):
        made = portero.administrators.add(NewAdministrator(name="night-desk", role="responder"))
    sign_in(page, service, "night-desk", made.first_password, "/fleet")
    expect(page.get_by_text("your password is the first one")).to_be_visible()
    expect(page.get_by_role("navigation")).to_have_count(0)
    page.get_by_label("The first password, once more").fill(made.first_password)
    page.get_by_label("Your own").fill("passwordpassword")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("many have")
    page.get_by_label("Your own").fill(OTHER)
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Machines")).to_be_visible()


def test_ones_own_password_is_changed(page, service):
    service.add("steward", "reader")
    sign_in(page, service, "steward", PASSWORD)
    page.get_by_role("button", name="steward").click()
    page.get_by_text("Your password…").click()
    focus_is_inside(page.get_by_role("dialog"))
    page.get_by_label("The one that you have").fill("not that one at all")
    page.get_by_label("The new one").fill(OTHER)
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("password is wrong")
    page.get_by_label("The one that you have").fill(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.get_by_text("Your password is changed")).to_be_visible()
    service.client("steward", OTHER).close()


def test_what_one_may_not_is_shown_with_what_it_needs_and_who_gives_it(page, service, machines):
    service.add("auditor", "reader")
    sign_in(page, service, "auditor", PASSWORD, "/controls/categories/leeway")
    expect(page.get_by_role("heading", name="Where it is assigned")).to_be_visible()
    told = "This needs the role of an author; auditor is reader, and keeper can give it."
    for name in ("New ruleset", "Save", "Assign to groups", "Pause leeway--office"):
        button = page.get_by_role("button", name=name)
        expect(button).to_have_attribute("aria-disabled", "true")
        expect(button).to_have_attribute("aria-description", told)
    page.get_by_role("button", name="Assign to groups").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_text(told, exact=True)).to_be_visible()
    expect(page.get_by_role("dialog")).to_have_count(0)
    expect(
        page.get_by_role("group", name="The whole family Pastime").get_by_role("radio", name="block")
    ).to_be_disabled()


@pytest.mark.parametrize("path", ["/fleet/enrolment", "/access/administrators", "/controls/feeds"])
def test_nothing_that_takes_more_than_ones_role_can_be_pressed(page, service, machines, path):
    name = f"clerk-{path.rpartition('/')[2]}"
    service.add(name, "author")
    sign_in(page, service, name, PASSWORD, path)
    marked = page.locator("main .not-permitted")
    expect(marked.first).to_be_visible()
    for place in range(marked.count()):
        expect(marked.nth(place)).to_have_attribute("aria-description", re.compile("the role of a keeper"))
    marked.first.click(force=True)
    expect(page.get_by_text(f"needs the role of a keeper; {name} is author")).to_be_visible()
    expect(page.get_by_role("dialog")).to_have_count(0)


def test_administrators_are_made_changed_and_removed(console, service, portero):
    console.go("/overview")
    console.get_by_role("button", name="keeper").click()
    console.get_by_role("menuitem", name="Administrators").click()
    console.get_by_role("button", name="New administrator").click()
    dialog = console.get_by_role("dialog")
    dialog.get_by_label("Name", exact=True).fill("Deck-Desk")
    dialog.get_by_label("Role").select_option("responder: pushes, answers requests")
    dialog.get_by_label("Note").fill("Answers the deck")
    dialog.get_by_role("button", name="Make administrator").click()
    expect(dialog).to_contain_text("shown this once")
    first = dialog.locator(".secret").inner_text()
    dialog.get_by_role("button", name="Done").click()
    row = console.get_by_role("row").filter(has_text="deck-desk")
    expect(row).to_contain_text("first password until")
    row.get_by_role("button", name="Change deck-desk").click()
    dialog.get_by_label("Sees names").check()
    dialog.get_by_role("button", name="Save").click()
    expect(dialog).to_have_count(0)
    assert portero.administrators.get("deck-desk").sees_names
    row.get_by_role("button", name="More").click()
    console.once("dialog", lambda asked: asked.accept())
    row.get_by_text("Disable…").click()
    expect(row).to_contain_text("disabled")
    answer = httpx.post(service.url + "/api/v1/session", json={"name": "deck-desk", "password": first})
    assert "disabled" in answer.json()["detail"]
    row.get_by_role("button", name="More").click()
    console.once("dialog", lambda asked: asked.accept())
    row.get_by_text("Remove…").click()
    expect(row).to_have_count(0)


def test_the_last_keeper_is_kept_with_the_reason(console):
    console.go("/access/administrators")
    row = console.get_by_role("row").filter(has_text="keeper you")
    row.get_by_role("button", name="Change keeper").click()
    dialog = console.get_by_role("dialog")
    dialog.get_by_label("Role").select_option("reader: sees everything, changes nothing")
    dialog.get_by_role("button", name="Save").click()
    expect(dialog.get_by_role("alert")).to_contain_text("last keeper")


def test_the_audit_trail_tells_what_was_done(console, service, portero):
    with portero.access.session("keeper", service.password):
        service.add("mate", "reader")
        seen = portero.administrators.get("mate")
        portero.administrators.change(seen, AdministratorChange(role="author"))
    console.go("/access/audit")
    row = console.get_by_role("row").filter(has_text="/administrators/mate")
    expect(row).to_contain_text("reader and sees names; now author and sees pseudonyms")
    console.get_by_label("Act").fill("createToken")
    expect(console.get_by_role("row").nth(1)).to_contain_text("create token")
    expect(console.get_by_role("row").filter(has_text="put administrator")).to_have_count(0)
    with console.expect_download() as download:
        console.get_by_role("link", name="As JSON Lines").click()
    assert download.value.path().read_bytes().startswith(b"{")


def test_who_sees_no_names_sees_pseudonyms(page, service, machines):
    service.add("council", "reader", sees_names=False)
    sign_in(page, service, "council", PASSWORD, "/activity")
    row = page.get_by_role("row").filter(has_text="ABCD-2345")
    expect(row).to_contain_text(re.compile(r"person-[a-z2-7]{10}"))
    expect(page.get_by_text("office-1")).to_have_count(0)
    word = re.search(r"person-[a-z2-7]{10}", row.inner_text()).group()
    page.get_by_label("Person").fill(word)
    expect(page.get_by_role("row")).to_have_count(2)
    page.goto(service.url + "/console/access/audit")
    expect(page.get_by_text("This needs the right to see names")).to_be_visible()


def test_sessions_and_tokens_are_made_seen_and_ended(console, portero, service):
    console.go("/overview")
    console.get_by_role("button", name="keeper").click()
    console.get_by_role("menuitem", name="Sessions and tokens").click()
    expect(console.get_by_role("heading", name="Sessions and tokens")).to_be_visible()
    console.get_by_role("button", name="New token").click()
    console.get_by_label("What it is for").fill("nightly report")
    console.get_by_label("It lasts").select_option("a day")
    console.get_by_role("button", name="Make token").click()
    dialog = console.get_by_role("dialog")
    expect(dialog).to_contain_text("shown once")
    secret = re.search(r"pt_\S+", dialog.inner_text()).group()
    headers = {"Authorization": f"Bearer {secret}"}
    assert httpx.get(service.url + "/api/v1/session", headers=headers).json()["role"] == "reader"
    console.get_by_role("button", name="Done").click()
    row = console.get_by_role("row").filter(has_text="nightly report")
    expect(row).to_contain_text("reader")
    console.once("dialog", lambda asked: asked.accept())
    row.get_by_role("button", name="End token nightly report").click()
    expect(row).to_have_count(0)
    assert httpx.get(service.url + "/api/v1/session", headers=headers).status_code == 401
    console.get_by_label("Everybody’s").check()
    expect(console.get_by_role("columnheader", name="Of").first).to_be_visible()
