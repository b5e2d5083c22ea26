"""Every dialog, light and dark, is one that everybody can use: axe finds nothing."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from playwright.sync_api import Page, expect

from console.conftest import put_in_force

pytestmark = [pytest.mark.browser, pytest.mark.process]


def _press(name: str, exact: bool = True) -> Callable[[Page], None]:
    return lambda page: page.get_by_role("button", name=name, exact=exact).first.click()


def _choose(menu: str, item: str) -> Callable[[Page], None]:
    def open_it(page: Page) -> None:
        page.get_by_role("button", name=menu, exact=True).click()
        page.get_by_text(item, exact=True).click()

    return open_it


DIALOGS = {
    "assign": ("controls/categories/no-gambling", _press("Assign to groups…", exact=False)),
    "quick rule": ("fleet/machines/laptop-1", _press("Block or allow…")),
    "labels": ("fleet/machines/laptop-1", _choose("Manage", "Labels…")),
    "revoke": ("fleet/machines/laptop-1", _choose("Manage", "Revoke its credential…")),
    "modes": ("fleet/layers", _press("For a group…")),
    "coverage": ("fleet/coverage", _press("Add a row…")),
    "code": ("fleet/enrolment", _press("New code…", exact=False)),
    "invite": ("fleet/enrolment", _press("Machines from a list…")),
    "feed": ("controls/feeds", _press("New feed", exact=False)),
    "correction": ("controls/corrections", _press("Correct a host", exact=False)),
    "address list": ("controls/address-lists", _press("Edit port-pages")),
    "paste": ("controls/sites/kiosk-sites", _press("Paste patterns", exact=False)),
    "service": ("controls/services", _press("New service", exact=False)),
    "import": ("controls/indicators/fraud-hosts", _press("From a file…")),
    "clean-up": ("controls/indicators/+all", _press("Clean up…")),
    "try": ("controls/taxonomy", _press("Try it… with Music", exact=False)),
    "cell": ("assignments", lambda page: page.locator("td button").first.click()),
    "administrator": ("access/administrators", _press("New administrator", exact=False)),
    "token": ("access", _press("New token", exact=False)),
    "password": ("overview", _choose("keeper", "Your password…")),
}


def test_every_dialog_is_for_everybody(console, brackwater, looked_at):
    for name, (path, open_it) in DIALOGS.items():
        console.go(f"/{path}")
        expect(console.get_by_role("progressbar")).to_have_count(0)
        open_it(console)
        expect(console.get_by_role("dialog")).to_be_visible()
        looked_at(name)


def test_a_preview_and_the_word_of_what_was_done_are_for_everybody(console, brackwater, looked_at):
    console.go("/settings")
    console.get_by_label("Days for which activity is kept").fill("181")
    console.get_by_role("button", name="Save").click()
    expect(console.get_by_role("dialog", name="Before you save")).to_contain_text("It would be revision")
    looked_at()
    put_in_force(console)
    expect(console.get_by_role("button", name="Undo…")).to_be_visible()
    looked_at()
    console.get_by_label("Days for which activity is kept").fill("180")
    console.get_by_role("button", name="Save").click()
    put_in_force(console)


def test_what_opens_within_a_page_is_for_everybody(console, brackwater, looked_at):
    console.go("/fleet/machines/laptop-1")
    console.get_by_label("Address to try").fill("http://lucky-reef.example/")
    console.keyboard.press("Enter")
    expect(console.get_by_text("Intended", exact=False).first).to_be_visible()
    console.get_by_role("button", name="Games").click()
    looked_at()
    console.go("/controls/categories/working-hours")
    console.get_by_role("button", name="Meeting people").click()
    looked_at()
