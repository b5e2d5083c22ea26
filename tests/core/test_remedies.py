"""Remedies: whatever is found on generated estates is settled by its remedy, and only what it names is changed."""

from __future__ import annotations

from collections import Counter
from datetime import timedelta

import pytest
from judging import assigned, rules
from worlds import Fleet, made

from made_estates import BASE
from portero.core.insight.differences import differences
from portero.core.insight.findings import apply_remedy, find_all
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import Finding

ESTATES = 40


def found_in(estate: Estate, fleet: Fleet) -> dict[str, Finding]:
    return {item.id: item for item in find_all(estate, fleet.world(estate)).items}


@pytest.mark.parametrize("part", range(2))
def test_every_remedy_gives_a_valid_estate_and_settles_what_it_is_for(part):
    taken: Counter[str] = Counter()
    for seed in range(part, ESTATES, 2):
        _, estate, fleet = made(seed)
        for one in list(found_in(estate, fleet).values()):
            for remedy in one.remedies:
                after = apply_remedy(estate, one, remedy.key, BASE)
                assert not list(after.faults()), (seed, one.id, remedy.key)
                taken[remedy.key] += 1
                if taken[remedy.key] <= 25:
                    assert one.id not in found_in(after, fleet), (seed, one.id, remedy.key)
    assert set(taken) >= {"remove-assignment", "remove-rules", "raise-group", "pause-assignment"}


@pytest.mark.parametrize("seed", range(20))
def test_a_remedy_changes_only_what_its_finding_names(seed):
    _, estate, fleet = made(seed)
    for one in found_in(estate, fleet).values():
        for remedy in one.remedies:
            changes = list(differences(estate, apply_remedy(estate, one, remedy.key, BASE)))
            named = {*one.assignments, *one.rulesets, *one.groups, "precedence"}
            if remedy.key in ("as-indicators", "as-site-patterns"):
                # these make something new, and change nothing
                assert {change.verb for change in changes} == {"created"}
                continue
            assert {change.key for change in changes} <= named, (one.id, remedy.key)
            assert changes or remedy.key == "raise-group", (one.id, remedy.key)


def one_machine(**facts) -> Fleet:
    layers = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}
    return Fleet.of({"portero_facts": 1, "devices": [{"hostname": "pc", "layers": layers, **facts}]})


BROWSING = one_machine(browsers=[{"name": "chromium", "version": "140", "managed": True}])


@pytest.mark.parametrize(
    ("url", "whole"),
    [
        ("https://files.example/drop/", "host files.example"),
        ("http://files.example:8080/drop", "host files.example"),
        ("http://203.0.113.7/drop", "address 203.0.113.7"),
        ("http://[2001:db8::7]:8080/drop", "address 2001:db8::7"),
        ("http://files.example/?q=1", "host files.example"),
    ],
)
def test_whole_hosts_take_the_place_of_paths(url, whole):
    path = rules("indicator", {"url": url, "action": "block", "note": "seen twice"})
    estate = assigned((path, "whole-fleet"))
    one = next(one for one in found_in(estate, BROWSING).values() if one.kind == "unenforceable")
    after = apply_remedy(estate, one, "name-hosts", BASE)
    rule = after.rulesets[0].rules[0]
    assert (str(rule.selector), rule.note, rule.action) == (whole, "seen twice", "block")
    assert one.id not in found_in(after, BROWSING)


def test_two_paths_of_one_host_become_one_rule_and_what_is_allowed_stays():
    listed = rules(
        "indicator",
        {"url": "files.example/drop", "action": "block"},
        {"url": "files.example/take", "action": "block"},
        {"url": "press.example/today", "action": "allow"},
    )
    estate = assigned((listed, "whole-fleet"))
    one = next(one for one in found_in(estate, BROWSING).values() if one.kind == "unenforceable")
    after = apply_remedy(estate, one, "name-hosts", BASE).rulesets[0]
    assert [str(rule.selector) for rule in after.rules] == ["host files.example", "url press.example/today"]


@pytest.mark.parametrize("ended", [1, 45, 400])
def test_what_is_over_goes_on_from_now_however_long_ago_it_ended(ended):
    end = (BASE - timedelta(days=ended)).isoformat()
    games = {"category": "games", "action": "block"}
    estate = assigned((rules("category", games), "weak", {"ends": end}))
    one = found_in(estate, BROWSING)["ended.category-0--weak"]
    assert apply_remedy(estate, one, "extend", BASE).assignments[0].ends == BASE + timedelta(days=30)
    estate = assigned(
        (rules("category", {**games, "valid_until": end}, {"category": "music", "action": "warn"}), "weak")
    )
    one = found_in(estate, BROWSING)["ended.rules.category-0"]
    first, second = apply_remedy(estate, one, "extend-rules", BASE).rulesets[0].rules
    assert first.valid_until == BASE + timedelta(days=30)
    assert second.valid_until is None


def test_what_ends_soon_goes_on_from_its_end():
    end = BASE + timedelta(days=2)
    estate = assigned((rules("category", {"category": "games", "action": "block"}), "weak", {"ends": end.isoformat()}))
    one = found_in(estate, BROWSING)["ending.category-0--weak"]
    assert apply_remedy(estate, one, "extend", BASE).assignments[0].ends == end + timedelta(days=30)


def test_layer_modes_that_a_group_has_already_are_kept():
    starts = rules("startup", {"sha256": "a" * 64, "action": "block"})
    modes = [{"group": "weak", "filter": "observing"}]
    observing = {"settings": {"layers": {"startup": "observing"}}, "layer_modes": modes}
    estate = assigned((starts, "weak"), **observing)
    one = found_in(estate, one_machine())["unenforceable.startup-observing.startup-0--weak"]
    own = apply_remedy(estate, one, "enforce-startup", BASE).layer_modes
    assert [(each.group, each.filter, each.startup) for each in own] == [("weak", "observing", "enforcing")]


def test_a_raised_group_stands_just_above_the_other():
    allow, block = (rules("category", {"category": "games", "action": action}) for action in ("allow", "block"))
    pins = {"first": ["third"], "strong": ["pc", "third"], "between": [], "weak": ["pc", "other"], "last": ["other"]}
    groups = [{"key": key, "pins": {"in": held}} for key, held in pins.items()]
    estate = assigned((allow, "strong"), (block, "weak"), groups=groups, precedence=list(pins))
    fleet = Fleet.of({"portero_facts": 1, "devices": [{"hostname": one} for one in ("pc", "other", "third")]})
    one = next(one for one in found_in(estate, fleet).values() if one.kind == "contradiction")
    after = apply_remedy(estate, one, "raise-group", BASE)
    assert after.precedence == ("first", "weak", "strong", "between", "last")


def test_a_remedy_that_a_finding_does_not_have_is_refused():
    estate = assigned(
        (rules("category", {"category": "games", "action": "block"}), "strong"),
        groups=[{"key": "strong"}],
        precedence=["strong"],
    )
    (one,) = found_in(estate, one_machine()).values()
    assert [remedy.key for remedy in one.remedies] == ["remove-assignment"]
    for key in ("extend", "raise-group", "nonsense", ""):
        with pytest.raises(KeyError):
            apply_remedy(estate, one, key, BASE)
