"""What a machine will block: all four kinds of rules, gaps first, and what holds only sometimes."""

from __future__ import annotations

import pytest
from judging import assigned, rules

from portero.core.insight.blocks import MOST_ROWS, blocks
from portero.core.insight.effects.subjects import KnownSubjects
from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.device import Facts, Lifecycle
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.enforcement import Machine
from portero.core.resolving.explaining import Case
from portero.core.resolving.policy import Policy

ENFORCING = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}


def block(**selector) -> dict:
    return {**selector, "action": "block"}


def told(estate, **more):
    """What `pc`, in both groups, will do."""
    facts = Facts.model_validate(
        {
            "hostname": "pc",
            "layers": ENFORCING,
            "os": {"family": "linux"},
            "place": "on-site",
            "browsers": [{"name": "chromium", "managed": True}],
            "applications": [{"product": "Chess", "version": "2"}, {"product": "Tides", "version": "1"}],
            **more,
        }
    )
    policy = Policy(compile_bundle(estate, ("strong", "weak", "whole-fleet"), ("pc",)), "pc")
    machine = Machine.of(
        facts,
        lifecycle=Lifecycle.ENROLLED,
        applied=policy,
        current=True,
        index_current=True,
        since={},
        coverage=estate.coverage_table,
        catalogue={},
    )
    attempt = Attempt.model_validate({"device": "pc", "url": "http://nothing.test/", "at": "2026-12-02T10:00:00Z"})
    known = KnownSubjects.of((estate,), lambda: facts.applications, {})
    case = Case(attempt, MemoryIndex({}), machine)
    return blocks(policy, case, estate, known, {"revision": 1, "bundle": None, "applied_bundle": None})


def rows(found) -> list[tuple[str, str, str, str]]:
    return [(row.kind, row.name, row.intended.verdict.value, row.effective.verdict.value) for row in found.rules]


def test_all_kinds_are_told_with_what_really_happens():
    estate = assigned(
        (rules("category", block(category="games"), block(search_term="cheap pills")), "weak"),
        (
            rules("indicator", block(host="a.example"), block(url="b.example/pay"), block(address="203.0.113.0/28")),
            "weak",
        ),
        (rules("indicator", {"host": "a.example", "action": "allow"}), "strong"),
        (rules("site", {"pattern": "c.example", "action": "allow"}, block(pattern="*")), "weak"),
        (
            rules("startup", block(application_set="games"), block(sha256="a" * 64), block(application_set="others")),
            "weak",
        ),
        application_sets=[
            {"key": "games", "include": [{"product": "chess"}]},
            {"key": "others", "include": [{"product": "nothing here", "version": {"below": "3"}}]},
        ],
    )
    found = told(estate)
    assert [(row.category, row.gap.value) for row in found.categories] == [("games", "none")]
    assert rows(found) == [
        ("indicator", "b.example/pay", "block", "allow"),  # over https nobody shows the filter what page it is
        ("indicator", "a.example", "allow", "allow"),
        ("category", "searches for “cheap pills”", "block", "block"),
        ("indicator", "203.0.113.0/28", "block", "block"),
        ("site", "c.example", "allow", "allow"),
        ("site", "every other site", "block", "block"),
        ("startup", "Chess 2", "block", "block"),
        ("startup", "aaaaaaaaaaaa…, none here", "block", "block"),
        ("startup", "programs of others, none here", "block", "block"),
    ]
    assert found.rules[0].caveats == ("path-hidden",)
    assert found.gaps == 1
    assert [count.sentence for count in found.counts] == [
        "2 rules on web content in play: 2 by hand (2 block); 1 of those by hand are shown.",
        "4 indicators in play: 4 by hand (3 block and 1 allows).",
        "2 site patterns in play: 2 by hand (1 allows and 1 blocks).",
        "3 rules on programs in play: 3 by hand (3 block).",
    ]


def test_what_feeds_bring_is_counted_and_its_pages_stand_together():
    brought = [block(host=f"h{number}.example") for number in range(300)]
    brought += [{"url": f"h{number}.example/pay", "action": "warn"} for number in (1, 2, 3)]
    own = [block(host=f"own{number}.example") for number in range(MOST_ROWS + 7)]
    estate = assigned(
        (rules("indicator", *brought, feed="watch"), "weak"),
        (rules("indicator", *own, key="own"), "weak"),
        feeds=[{"key": "watch", "kind": "indicators", "format": "csv", "action": "block"}],
    )
    found = told(estate)
    names = [row.name for row in found.rules]
    assert names[0] == "h1.example/pay and 2 more pages from feeds"
    assert names[1:] == [f"own{number}.example" for number in range(MOST_ROWS)]
    (count,) = found.counts
    assert count.sentence == (
        "360 indicators in play: 57 by hand (57 block) and 303 from indicator-0 (300 block and 3 warn);"
        " 50 of those by hand are shown."
    )


@pytest.mark.parametrize(
    ("conditions", "aside", "words"),
    [
        ({"people": {"users": ["mate"]}}, "other-people", "for mate"),
        ({"place": "off-site"}, "other-place", "while off-site"),
        ({"place": "on-site"}, None, "while on-site"),
        ({"ends": "2026-12-01T00:00:00Z"}, "ended", "until 2026-12-01 00:00 UTC"),
        ({"schedule": "nights"}, "schedule", "during nights"),
    ],
)
def test_what_holds_only_sometimes_is_told_beside_it(conditions, aside, words):
    nights = {"key": "nights", "zone": "UTC", "windows": [{"days": ["wed"], "from": "20:00", "to": "23:00"}]}
    estate = assigned((rules("indicator", block(host="a.example")), "weak", conditions), schedules=[nights])
    found = told(estate)
    (one,) = found.sometimes
    assert (one.aside and one.aside.value, one.conditions) == (aside, words)
    assert one.sentence.endswith("blocks a.example.")
    assert bool(found.rules) == (aside is None), "what does not count now is not told as blocked"


def test_a_layer_that_is_off_makes_a_gap_of_all_it_should_do():
    estate = assigned(
        (rules("startup", block(application_set="games")), "weak"),
        application_sets=[{"key": "games", "include": [{"product": "chess"}]}],
    )
    found = told(estate, layers={**ENFORCING, "startup": "off"})
    assert rows(found) == [("startup", "Chess 2", "block", "allow")]
    assert [caveat.code.value for caveat in found.caveats if caveat.layer == "startup"] == ["startup-off"]
