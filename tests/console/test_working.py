"""Where an answer takes its time, the page says how far it is."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

from serving import held_looks

pytestmark = pytest.mark.browser


def test_a_page_says_how_far_it_is_with_what_it_looks_for(console, service):
    with held_looks(service) as go_on:
        console.go("/verify/findings")
        told = console.get_by_role("main").get_by_text("Rules that meet: 3 of 9").first
        expect(told).to_be_visible()
        expect(console.get_by_role("progressbar", name="Rules that meet").first).to_be_visible()
        go_on.set()
        expect(told).to_be_hidden()
    expect(console.get_by_role("progressbar")).to_have_count(0)
