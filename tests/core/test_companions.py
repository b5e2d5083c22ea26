"""Machines on which a site list is not what counts, and the same hosts as indicators that make up for it."""

from __future__ import annotations

import pytest
from judging import assigned, judge, rules
from test_remedies import BASE, found_in, one_machine

from portero.core.insight.findings import apply_remedy

OWN = "/etc/chromium/policies/managed/portero.json"


def machine(**policy: object):
    reported = {"file": OWN, "state": "kept", **policy}
    return one_machine(browsers=[{"name": "chromium", "version": "156", "managed": True, "policy": reported}])


def unenforceable(estate, fleet):
    return [one for one in found_in(estate, fleet).values() if one.kind == "unenforceable"]


UNGOVERNED = one_machine(browsers=[{"name": "gullwing", "version": "7.2", "managed": False}])
PLAIN = rules(
    "site", {"pattern": "a.example", "action": "block", "note": "ours"}, {"pattern": ".b.example", "action": "allow"}
)


@pytest.mark.parametrize(
    ("policy", "says"),
    [
        ({"overridden_by": [OWN + ".zz"]}, "goes by somebody else's instead"),
        ({"state": "foreign"}, "goes by somebody else's instead"),
        ({"state": "unwritten"}, "policy file cannot be written"),
        ({"tampering": {"at": "2026-11-28T10:00:00Z", "what": "edited"}}, "somebody was at a browser's policy file"),
    ],
)
def test_files_that_do_not_stand_as_they_should_are_found(policy, says):
    (one,) = unenforceable(assigned((PLAIN, "whole-fleet")), machine(**policy))
    assert one.devices == 1
    assert says in one.sentence
    assert not unenforceable(assigned((PLAIN, "whole-fleet")), machine())


def test_the_same_hosts_as_indicators_make_up_for_a_browser_that_nobody_governs():
    estate = assigned((PLAIN, "whole-fleet"))
    (one,) = unenforceable(estate, UNGOVERNED)
    assert [remedy.key for remedy in one.remedies] == ["as-indicators", "block-browsers"]
    after = apply_remedy(estate, one, "as-indicators", BASE)
    made, put = after.rulesets[-1], after.assignments[-1]
    assert [(str(rule.selector), rule.action, rule.note) for rule in made.rules] == [
        ("host a.example", "block", "ours"),
        ("host b.example exact", "allow", None),
    ]
    assert (made.kind, put.to, put.ruleset) == ("indicator", estate.assignments[0].to, made.key)
    assert one.id not in found_in(after, UNGOVERNED)


@pytest.mark.parametrize("pattern", ["*", "a.example/path", "a.example:8080", "https://a.example", "a.example?q=1"])
def test_a_list_that_names_more_or_less_than_hosts_has_no_companion(pattern):
    listed = rules("site", {"pattern": "b.example", "action": "block"}, {"pattern": pattern, "action": "block"})
    for one in found_in(assigned((listed, "whole-fleet")), UNGOVERNED).values():
        assert "as-indicators" not in {remedy.key for remedy in one.remedies}


def test_keys_that_are_taken_or_long_are_made_others():
    long = rules("site", {"pattern": "a.example", "action": "block"})
    estate = assigned((long, "whole-fleet"))
    once = estate
    for _ in range(3):
        (one,) = unenforceable(estate, UNGOVERNED)
        once = apply_remedy(once, one, "as-indicators", BASE)
    assert len({ruleset.key for ruleset in once.rulesets}) == 4
    assert len({assignment.key for assignment in once.assignments}) == 4
    assert not list(once.faults())


def test_the_same_paths_as_site_patterns_make_up_for_what_https_hides():
    paths = rules(
        "indicator",
        {"url": "https://files.example/drop/", "action": "block", "note": "seen twice"},
        {"host": "a.example", "action": "block"},
    )
    estate = assigned((paths, "whole-fleet"))
    chromium = one_machine(browsers=[{"name": "chromium", "version": "156", "managed": True}])
    (one,) = unenforceable(estate, chromium)
    assert [remedy.key for remedy in one.remedies] == ["name-hosts", "as-site-patterns"]
    after = apply_remedy(estate, one, "as-site-patterns", BASE)
    (rule,) = after.rulesets[-1].rules
    assert (rule.pattern, rule.action, rule.note) == ("https://files.example/drop/", "block", "seen twice")
    assert not unenforceable(after, chromium)


@pytest.mark.parametrize(
    "rule",
    [
        {"url": "https://files.example/drop", "exact": True, "action": "block"},
        {"url": "https://files.example/drop?x=1", "action": "block"},
        {"url": "https://files.example/drop", "action": "warn"},
    ],
)
def test_a_path_that_no_pattern_says_has_no_companion(rule):
    chromium = one_machine(browsers=[{"name": "chromium", "version": "156", "managed": True}])
    for one in unenforceable(assigned((rules("indicator", rule), "whole-fleet")), chromium):
        assert "as-site-patterns" not in {remedy.key for remedy in one.remedies}


def test_a_browser_that_nobody_governs_can_be_kept_from_starting():
    estate = assigned((rules("site", {"pattern": "a.example/path", "action": "block"}), "whole-fleet"))
    (one,) = unenforceable(estate, UNGOVERNED)
    assert (one.browsers, [remedy.key for remedy in one.remedies]) == (("gullwing",), ["block-browsers"])
    assert one.remedies[0].sentence.startswith("Keep gullwing from starting")
    after = apply_remedy(estate, one, "block-browsers", BASE)
    assert not list(after.faults())
    assert after.application_sets[-1].include[0].file == "gullwing"
    assert (after.assignments[-1].to, after.rulesets[-1].kind) == (estate.assignments[0].to, "startup")
    assert one.id not in found_in(after, UNGOVERNED)
    another = one_machine(browsers=[{"name": "petrel", "version": "1", "managed": False}])
    assert one.id in found_in(after, another), "another browser is not kept from starting"


BROWSERS = [{"name": "chromium", "version": "156", "managed": True}]
PAGES = {"settings": {"search_pages": [{"host": "find.example", "parameter": "q"}]}}
SEEN_BY_HOST = one_machine(os={"family": "linux"}, browsers=BROWSERS, zone="UTC")


def test_searches_that_https_hides_can_be_named_as_they_begin_in_a_site_list():
    terms = rules("category", {"search_term": "Free  credits", "action": "block", "note": "ours"})
    estate = assigned((terms, "whole-fleet"), **PAGES)
    (one,) = unenforceable(estate, SEEN_BY_HOST)
    assert [remedy.key for remedy in one.remedies] == ["as-search-patterns"]
    after = apply_remedy(estate, one, "as-search-patterns", BASE)
    assert not list(after.faults())
    made = after.rulesets[-1]
    assert [(rule.pattern, rule.reading, rule.note) for rule in made.rules] == [
        (".find.example?q=free+credits*", "left-out", "ours"),
        (".find.example?q=free%20credits*", "left-out", "ours"),
    ]
    assert one.id not in found_in(after, SEEN_BY_HOST)
    for query, verdict in (("free+credits+now", "block"), ("free%20credits", "block"), ("no+free+credits", "allow")):
        got = judge(after, f"https://find.example/search?q={query}", facts={"browsers": BROWSERS},
                    browser="chromium")  # fmt: skip
        assert got.explanation.effective.verdict == verdict


@pytest.mark.parametrize(
    ("rule", "pages"),
    [
        ({"search_term": "free credits", "action": "warn"}, PAGES),
        ({"search_term": "free credits", "action": "block"}, {}),
        ({"media_type": "video/*", "action": "block"}, PAGES),
    ],
)
def test_what_no_pattern_can_say_has_no_such_remedy(rule, pages):
    (one,) = unenforceable(assigned((rules("category", rule), "whole-fleet"), **pages), SEEN_BY_HOST)
    assert one.remedies == ()
