"""What should be known while a rule or an assignment is written."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

import pytest
from judging import assigned, rules
from worlds import HOSTS, Fleet, made

from made_estates import BASE
from portero.core.insight.effects.world import Having
from portero.core.insight.findings import find_all
from portero.core.insight.warnings import (
    MOST_EXACT,
    MOST_WARNINGS,
    MOST_WRITTEN,
    SeenBeside,
    warn_of_assignment,
    warn_of_ruleset,
)
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.worklist import AuthoringWarning

BROWSING = [{"name": "chromium", "version": "140", "managed": True}]
FLEET = Fleet.of(
    {
        "portero_facts": 1,
        "devices": [{"hostname": "pc", "browsers": BROWSING}, {"hostname": "other"}, {"hostname": "third"}],
    }
)
EMPTY = assigned()


SEEN = ("shop.harbour.example", "www.harbour.example")


def _seen(host: str) -> SeenBeside:
    """Two hosts of one domain were seen, on three machines."""
    if not host.endswith("harbour.example"):
        return SeenBeside((), 0)
    return SeenBeside(tuple(other for other in SEEN if other != host), 3)


def warned(*written: dict, kind: str = "indicator", estate: Estate = EMPTY, key: str = "written", fleet=FLEET):
    """The warnings about a ruleset, by rule."""
    ruleset = Ruleset.model_validate({"key": key, "kind": kind, "rules": list(written)})
    return warn_of_ruleset(ruleset, estate, fleet.world(estate), HOSTS, _seen)


def codes(found: list[AuthoringWarning]) -> list[tuple[int | None, str]]:
    return [(authoring_warning.rule, authoring_warning.code) for authoring_warning in found]


@pytest.mark.parametrize(
    ("rule", "told"),
    [
        (
            {"host": "www.harbour.example", "exact": True, "action": "block"},
            "“exact” is for www.harbour.example alone: it leaves open shop.harbour.example, seen on 3 machines.",
        ),
        (
            {"host": "harbour.example", "exact": True, "action": "allow"},
            "“exact” is for harbour.example alone: it does not allow shop.harbour.example and www.harbour.example, seen"
            " on 3 machines.",
        ),
        ({"host": "harbour.example", "action": "block"}, None),
        ({"host": "pier.example", "exact": True, "action": "block"}, None),
    ],
)
def test_what_stands_for_one_host_says_which_others_of_its_domain_were_seen(rule, told):
    assert [one.sentence for one in warned(rule) if one.code == "host-exact"] == ([told] if told else [])


def test_only_a_few_exact_hosts_are_looked_at():
    many = [{"host": f"h{number}.harbour.example", "exact": True, "action": "block"} for number in range(9)]
    assert sum(one.code == "host-exact" for one in warned(*many)) == MOST_EXACT


# --- what will not hold ---


@pytest.mark.parametrize(
    ("rule", "instead"),
    [
        ({"url": "https://files.example/drop"}, "files.example"),
        ({"url": "files.example:8080/drop"}, "files.example"),
        ({"url": "files.example/?q=1"}, "files.example"),
        ({"url": "203.0.113.7/drop"}, "203.0.113.7"),
        ({"url": "http://[2001:db8::7]/drop"}, "[2001:db8::7]"),
    ],
)
def test_a_path_does_not_show_over_https(rule, instead):
    for action in ("block", "warn"):
        (one,) = warned({**rule, "action": action})
        assert (one.rule, one.code, one.devices, one.instead) == (1, "path-hidden", 1, instead)
        assert "1 machine" in one.sentence


def test_what_hides_nothing_or_stops_nothing_is_not_warned_of():
    assert warned({"url": "https://files.example/", "action": "block"}) == []
    assert warned({"url": "https://files.example/drop", "action": "allow"}) == []
    nobody_browses = Fleet.of({"portero_facts": 1, "devices": [{"hostname": "pc"}]})
    assert warned({"url": "https://files.example/drop", "action": "block"}, fleet=nobody_browses) == []


@pytest.mark.parametrize("rule", [{"search_term": "free credits"}, {"media_type": "video/*"}])
def test_content_does_not_show_over_https(rule):
    one, *more = warned({**rule, "action": "block"}, kind="category")
    assert (one.code, one.devices, one.instead) == ("content-hidden", 1, None)
    assert [warning.code for warning in more] == (["search-pages"] if "search_term" in rule else [])


# --- mistyped hosts ---


@pytest.mark.parametrize(
    ("rule", "code", "instead"),
    [
        ({"host": "parcel-refnd.example"}, "host-near", "parcel-refund.example"),
        ({"host": "files.exmaple"}, "host-suffix", None),
        ({"url": "files.exmaple"}, "host-suffix", None),
        ({"host": "www.parcels.example"}, "host-www", "parcels.example"),
    ],
)
def test_a_host_that_looks_mistyped_is_asked_about(rule, code, instead):
    known = rules("indicator", {"host": "parcel-refund.example", "action": "block"}, key="known")
    (one,) = warned({**rule, "action": "block"}, estate=assigned((known, "weak")))
    assert (one.code, one.instead) == (code, instead)


@pytest.mark.parametrize(
    "rule",
    [
        {"host": "parcel-refund.example"},
        {"host": "www.parcels.example", "exact": True},
        {"host": "depot.internal"},
        {"host": "play.example"},
        {"url": "203.0.113.7"},
        {"url": "http://[2001:db8::7]:8080"},
    ],
)
def test_a_host_that_is_meant_is_left_alone(rule):
    known = rules("indicator", {"host": "parcel-refund.example", "action": "block"}, key="known")
    estate = assigned((known, "weak"))
    assert warned({**rule, "action": "block"}, estate=estate) == []


def test_hosts_of_site_patterns_are_looked_at_too():
    written = [
        {"pattern": one, "action": "block"} for one in ("*", ".files.exmaple/drop", "https://files.example:8443")
    ]
    assert codes(warned(*written, kind="site"))[0] == (2, "host-suffix")


def test_what_the_directory_of_hosts_knows_is_not_mistyped():
    known = rules("indicator", {"host": "plays.example", "action": "block"}, key="known")
    assert warned({"host": "play.example", "action": "block"}, estate=assigned((known, "weak"))) == []


# --- said already ---

PASTIME = {"family": "pastime"}


@pytest.mark.parametrize(
    ("kind", "first", "second"),
    [
        ("category", PASTIME, {"category": "games"}),
        ("category", {"everything": True}, {"category": "games"}),
        ("category", {"everything": True}, PASTIME),
        ("indicator", {"host": "files.example"}, {"host": "drop.files.example"}),
        ("indicator", {"host": "files.example"}, {"url": "files.example"}),
    ],
)
def test_what_a_broader_rule_says_already_is_told(kind, first, second):
    found = warned({**first, "action": "block"}, {**second, "action": "block"}, kind=kind)
    assert codes(found) == [(2, "covered")]
    assert "rule 1" in found[0].sentence
    # the order in which they stand does not matter
    assert codes(warned({**second, "action": "block"}, {**first, "action": "block"}, kind=kind)) == [(1, "covered")]
    # something else is said
    assert warned({**first, "action": "block"}, {**second, "action": "allow"}, kind=kind) == []
    # it is said for a while only
    until = (BASE + timedelta(days=1)).isoformat()
    assert warned({**first, "action": "block", "valid_until": until}, {**second, "action": "block"}, kind=kind) == []


@pytest.mark.parametrize(
    ("first", "second"),
    [
        ({"host": "files.example", "exact": True}, {"host": "drop.files.example"}),
        ({"host": "files.example"}, {"host": "myfiles.example"}),
        ({"address": "203.0.113.0/24"}, {"address": "203.0.113.7"}),
    ],
)
def test_what_is_not_within_another_rule_is_not_said_already(first, second):
    # narrower ranges are left to findings, which try them
    assert warned({**first, "action": "block"}, {**second, "action": "block"}) == []


@pytest.mark.parametrize(
    ("conditions", "told"),
    [
        ({}, True),
        ({"mandatory": True}, True),
        ({"state": "paused"}, False),
        ({"state": "draft"}, False),
        ({"place": "on-site"}, False),
        ({"people": {"users": ["purser-1"]}}, False),
        ({"ends": "2027-01-01T00:00:00Z"}, False),
        ({"action": "log"}, False),
    ],
)
def test_what_everybody_has_already_is_told(conditions, told):
    pastime = rules("category", {"family": "pastime", "action": "block"}, key="rest")
    estate = assigned((pastime, "whole-fleet", conditions))
    found = warned({"category": "games", "action": "block"}, kind="category", estate=estate)
    assert codes(found) == ([(1, "covered")] if told else [])
    if told:
        assert "rest-0 on whole-fleet" in found[0].sentence


def test_what_one_group_has_is_not_what_everybody_has():
    estate = assigned((rules("category", {"family": "pastime", "action": "block"}), "weak"))
    assert warned({"category": "games", "action": "block"}, kind="category", estate=estate) == []


# --- what findings will say ---


def test_an_edit_of_an_assigned_ruleset_is_warned_of_by_what_would_be_found():
    block = rules("category", {"category": "games", "action": "block"}, key="never")
    allow = rules("category", {"category": "music", "action": "allow"}, key="leeway")
    estate = assigned((block, "whole-fleet", {"mandatory": True}), (allow, "strong"))
    assert warned(*allow["rules"], kind="category", estate=estate, key="leeway-1") == []
    found = warned(
        *allow["rules"], {"category": "games", "action": "allow"}, kind="category", estate=estate, key="leeway-1"
    )
    assert [one.code for one in found] == ["shadowed"]
    assert "Games can never win" in found[0].sentence
    # one that is assigned nowhere is idle nowhere yet, and would be wherever it is put
    found = warned({"category": "games", "action": "allow"}, kind="category", estate=estate, key="new")
    assert codes(found) == [(1, "allow-beaten")]


@pytest.mark.parametrize("state", ["active", "paused", "draft"])
def test_an_assignment_is_looked_at_as_if_it_were_in_force(state):
    block = rules("category", {"category": "games", "action": "block"}, key="never")
    allow = rules("category", {"category": "games", "action": "allow"}, key="leeway")
    music = rules("category", {"category": "music", "action": "warn"}, key="music")
    estate = assigned((block, "whole-fleet", {"mandatory": True}), (allow, "strong"), (music, "weak"))
    (kept,) = (assignment for assignment in estate.assignments if assignment.ruleset == "leeway-1")
    one = Assignment.model_validate({**dict(kept), "state": state})
    assert [each.code for each in warn_of_assignment(one, estate, FLEET.world(estate))] == ["shadowed"]
    fine = Assignment.model_validate({"key": "fine", "ruleset": "music-2", "to": ["strong"], "action": "block"})
    assert warn_of_assignment(fine, estate, FLEET.world(estate)) == []


@pytest.mark.parametrize("seed", range(12))
def test_an_assignment_as_it_stands_is_warned_of_by_its_own_findings(seed):
    _, estate, fleet = made(seed)
    world = fleet.world(estate)
    found = find_all(estate, world).items
    told = {"shadowed", "no-device", "never-open", "contradiction", "opened-by-weaker", "softened", "layers-disagree"}
    for assignment in estate.assignments:
        if assignment.state == "active":
            expected = {each.sentence for each in found if assignment.key in each.assignments and each.kind in told}
            assert expected <= {each.sentence for each in warn_of_assignment(assignment, estate, world)}, assignment.key


# --- bounds ---


def test_of_long_rulesets_the_last_rules_are_looked_at():
    written = [{"host": f"host-{number}.exmaple", "action": "block"} for number in range(MOST_WRITTEN + 50)]
    found = warned(*written)
    assert len(found) == MOST_WARNINGS
    assert min(one.rule for one in found if one.rule) > 50


def test_a_search_term_is_seen_on_the_listed_pages_only():
    told = warned({"search_term": "free credits", "action": "warn"}, kind="category")[-1]
    assert told.sentence.endswith("and there is none: it does nothing.")
    pages = {"search_pages": [{"host": "find.example", "parameter": "q"}, {"host": "ask.example", "parameter": "s"}]}
    told = warned({"search_term": "x", "action": "block"}, kind="category", estate=assigned(settings=pages))[-1]
    assert (told.code, told.rule) == ("search-pages", 1)
    assert told.sentence.endswith("only: ask.example and find.example.")


# --- what never wins ---


@pytest.mark.parametrize(
    ("kind", "stopping", "allowed"),
    [
        ("category", {"family": "pastime"}, {"category": "games"}),
        ("category", {"everything": True}, {"category": "news"}),
        ("indicator", {"host": "drop.example"}, {"host": "www.drop.example"}),
        ("indicator", {"host": "drop.example"}, {"url": "https://www.drop.example/x"}),
    ],
)
def test_an_allow_that_a_mandatory_rule_always_beats(kind, stopping, allowed):
    stops = rules(kind, {**stopping, "action": "block"})
    closed = assigned((stops, "whole-fleet", {"mandatory": True}))
    found = warned({**allowed, "action": "allow"}, kind=kind, estate=closed)
    (one,) = [one for one in found if one.code == "allow-beaten"]
    assert one.rule == 1
    assert "never wins: " in one.sentence
    assert "on whole-fleet stops" in one.sentence
    ordinary = warned({**allowed, "action": "allow"}, kind=kind, estate=assigned((stops, "whole-fleet")))
    assert "allow-beaten" not in {one.code for one in ordinary}


def test_an_allow_of_a_host_whose_category_is_stopped_for_all():
    stops = rules("category", {"everything": True, "action": "block"})
    estate = assigned((stops, "whole-fleet", {"mandatory": True}))
    assert codes(warned({"host": "drop.example", "action": "allow"}, estate=estate)) == [(1, "allow-beaten")]
    assert codes(warned({"host": "drop.example", "action": "block"}, estate=estate)) == []


def test_what_never_wins_covers_nothing():
    stops = rules("category", {"everything": True, "action": "block"})
    opened = rules("category", {"family": "pastime", "action": "allow"})
    open_to_all = assigned((opened, "whole-fleet"))
    assert codes(warned({"category": "games", "action": "allow"}, kind="category", estate=open_to_all)) == [
        (1, "covered")
    ]
    closed = assigned((stops, "whole-fleet", {"mandatory": True}), (opened, "whole-fleet"))
    found = warned({"category": "games", "action": "allow"}, kind="category", estate=closed)
    assert codes(found) == [(1, "allow-beaten")]


def test_who_has_what_a_startup_assignment_stops_is_told_beforehand():
    carry = rules("startup", {"application_set": "carry", "action": "block"})
    sets = [{"key": "carry", "include": [{"product": "Quick Carry"}]}]
    estate = assigned((carry, "whole-fleet", {"state": "draft"}), application_sets=sets)
    world = replace(
        FLEET.world(estate), having=lambda _is_meant: {"Quick Carry 1.8": Having({FLEET.members[0].id}, ["a", "b"])}
    )
    told = [one for one in warn_of_assignment(estate.assignments[0], estate, world) if one.code == "program-present"]
    assert [one.sentence for one in told] == [
        "1 machine has what startup-0 on whole-fleet stops: Quick Carry 1.8, started by 2 people in the last 14 days."
    ]
