"""Addresses tried on a site list: what is told equals what the models of the browsers and the explanation say."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st
from judging import rules

from portero.core.browsers.chromium import ChromiumLists
from portero.core.browsers.firefox import FirefoxLists
from portero.core.insight.site_lists import closes_everything, list_of_ruleset, switched
from portero.core.insight.site_trials import differing, try_sites
from portero.core.nouns.coverage import CoverageRow, CoverageTable
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.site_trial import SiteTrial
from portero.core.nouns.urls import parse_whole

NOW = datetime(2026, 11, 28, tzinfo=UTC)
TABLE = CoverageTable()
LISTED = rules(
    "site",
    {"pattern": "radio.example", "action": "block"},
    {"pattern": "radio.example/schedule", "action": "allow"},
    {"pattern": "radio.example/schedule/studio", "action": "block"},
    {"pattern": "tickets.example:8443", "action": "block", "reading": "left-out"},
)


def tried(*urls: str, ruleset=LISTED, table=TABLE):
    return try_sites(SiteTrial(ruleset=ruleset, urls=urls), table, NOW)


def told(one) -> dict[str, tuple[str, int | None]]:
    return {browser.family: (browser.verdict.value, browser.rule) for browser in one.browsers}


@pytest.mark.parametrize(
    ("url", "meant", "chromium", "firefox"),
    [
        ("radio.example", "block", ("block", 1), ("block", 1)),
        ("https://radio.example/schedule", "allow", ("allow", 2), ("allow", 2)),
        ("https://radio.example/schedule/studio", "block", ("block", 3), ("allow", 2)),
        ("https://tickets.example:8443/", "block", ("block", 4), ("allow", None)),
        ("https://elsewhere.example/", "allow", ("allow", None), ("allow", None)),
    ],
)
def test_each_family_goes_by_its_own_rules_and_names_the_pattern_that_counts(url, meant, chromium, firefox):
    (one,) = tried(url)
    assert one.meant == meant
    assert told(one) == {"chromium": chromium, "firefox": firefox}
    assert (one in list(differing([one]))) == (firefox[0] != meant)


def test_what_is_no_address_is_told_beside_the_others():
    bad, good = tried("http://b[d", "radio.example")
    assert bad.problem
    assert bad.browsers == ()
    assert good.problem is None


def test_what_a_browser_does_not_take_any_more_does_not_count():
    limits = ({"entries": 1},)
    row = {"control": "site-list", "browser": "chromium", "http": "page", "https": "page", "date": "2026-11-28"}
    short = CoverageTable((CoverageRow.model_validate({**row, "source": "a test", "list_limits": limits}),))
    two = rules("site", {"pattern": "a.example", "action": "block"}, {"pattern": "b.example", "action": "block"})
    (one,) = tried("b.example", ruleset=two, table=short)
    assert told(one) == {"chromium": ("allow", None), "firefox": ("block", 2)}


HOSTS, PATHS = ("a.example", ".a.example", "b.a.example", "*", "c.example:8080"), ("", "/x", "/x/y", "/X")


@given(
    st.lists(
        st.tuples(st.sampled_from(HOSTS), st.sampled_from(PATHS), st.sampled_from(("block", "allow"))),
        min_size=1,
        max_size=8,
        unique_by=lambda one: one[:2],
    ),
    st.sampled_from(("http://a.example/x", "https://b.a.example/x/y", "http://c.example:8080/", "http://a.example/X")),
)
def test_the_box_says_what_the_models_say_of_the_lists_that_are_handed_over(written, url):
    listed = rules("site", *({"pattern": host + path, "action": action} for host, path, action in written))
    (one,) = tried(url, ruleset=listed)
    merged = list_of_ruleset(Ruleset.model_validate(listed), NOW)
    for browser in one.browsers:
        support = TABLE.list_support(browser.family, None)
        handed = merged.handed(support._replace(policy_file=None))
        model = ChromiumLists if browser.family == "chromium" else FirefoxLists
        first = next(model(handed.blocks, handed.allows, support.limit).matching(parse_whole(url)), None)
        stopped = first is not None and not first.allow
        assert (browser.verdict == "block") is stopped


def test_a_list_is_begun_the_other_way_and_back():
    open_but = Ruleset.model_validate(
        rules("site", {"pattern": "a.example", "action": "block", "reading": "stricter", "note": "ours"})
    )
    closed_but = switched(open_but)
    assert [(rule.pattern, rule.action, rule.note, rule.reading) for rule in closed_but.rules] == [
        ("*", "block", None, None),
        ("a.example", "allow", "ours", None),
    ]
    back = switched(closed_but)
    assert [(rule.pattern, rule.action) for rule in back.rules] == [("a.example", "block")]
    (named,), (other,) = (tried(url, ruleset=closed_but) for url in ("a.example", "b.example"))
    assert (named.meant, other.meant) == ("allow", "block")


@given(
    st.lists(
        st.tuples(st.sampled_from(HOSTS), st.sampled_from(PATHS), st.sampled_from(("block", "allow"))),
        max_size=8,
        unique_by=lambda one: one[:2],
    )
)
def test_switching_twice_gives_the_same_list_and_each_time_the_other_start(written):
    listed = rules("site", *({"pattern": host + path, "action": action} for host, path, action in written))
    ruleset = Ruleset.model_validate(listed)
    once, twice = switched(ruleset), switched(switched(ruleset))
    assert any(map(closes_everything, once.rules)) is not any(map(closes_everything, ruleset.rules))
    # an allow of every site says nothing, and goes
    kept = [rule for rule in ruleset.rules if closes_everything(rule) or rule.pattern != "*"]
    assert {(rule.selector, rule.action) for rule in twice.rules} == {(rule.selector, rule.action) for rule in kept}
