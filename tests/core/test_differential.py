"""The compiled resolver against the slow reference, on generated estates."""

from __future__ import annotations

from hypothesis import given, settings
from hypothesis import strategies as st

import reference
from conftest import group
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.ruleset import Ruleset
from portero.core.resolving.bundles import compile_bundle
from portero.core.resolving.deciding import Policy, decide
from portero.core.resolving.explaining import explain_filter
from portero.formats.bundles import pack_bundle, unpack_bundle

GROUPS = ("a", "b", "c")
# few categories of two families, so that rules meet often
CATEGORIES = ("games", "music", "sport", "gambling", "uncategorised")
ACTIONS = st.sampled_from(["allow", "warn", "block", "log"])
SELECTORS = st.one_of(
    st.sampled_from(CATEGORIES).map(lambda key: {"category": key}),
    st.sampled_from(["pastime", "adult", "network"]).map(lambda key: {"family": key}),
    st.just({"everything": True}),
)


@st.composite
def estates(draw: st.DrawFn) -> Estate:
    rulesets = []
    for number in range(draw(st.integers(1, 4))):
        chosen = draw(st.lists(SELECTORS, max_size=5, unique_by=str))
        rules = [{**selector, "action": draw(ACTIONS)} for selector in chosen]
        rulesets.append(Ruleset.model_validate({"key": f"r{number}", "kind": "category", "rules": rules}))
    assignments = []
    for number in range(draw(st.integers(0, 7))):
        assignments.append(
            Assignment(
                key=f"s{number}",
                ruleset=draw(st.sampled_from(rulesets)).key,
                to=tuple(draw(st.lists(st.sampled_from([*GROUPS, "whole-fleet"]), min_size=1, unique=True))),
                action=draw(st.sampled_from([None, None, "log", "warn", "block"])),
                mandatory=draw(st.booleans()),
                state=draw(st.sampled_from(["active", "active", "active", "paused", "draft"])),
            )
        )
    return Estate(
        precedence=GROUPS,
        groups=tuple(group(key) for key in GROUPS),
        rulesets=tuple(rulesets),
        assignments=tuple(assignments),
    )


memberships = st.lists(st.sampled_from(GROUPS), unique=True).map(
    lambda chosen: (*(key for key in GROUPS if key in chosen), "whole-fleet")
)
hosts = st.lists(st.sampled_from(CATEGORIES), min_size=1, max_size=3, unique=True).map(tuple)


@settings(max_examples=600, deadline=None)
@given(estates(), memberships, st.lists(hosts, min_size=6, max_size=12))
def test_the_compiled_resolver_says_what_the_reference_says(estate, groups, visits):
    packed = pack_bundle(compile_bundle(estate, groups))
    policy = Policy(unpack_bundle(packed.packed, packed.digest))
    for categories in visits:
        verdict, winner, logged = reference.resolve(estate, groups, categories)
        decided = decide(policy, categories)
        assert (decided.verdict if decided else "allow") == verdict
        layer = explain_filter(policy, categories)
        named = (layer.winner.assignment, layer.winner.rule) if layer.winner else None
        assert (layer.verdict, named) == (verdict, winner)
        assert {(one.assignment, one.rule) for one in layer.logged} == logged


@settings(max_examples=200, deadline=None)
@given(estates(), memberships, hosts)
def test_every_rule_in_play_is_told_as_winner_loser_or_logged(estate, groups, categories):
    layer = explain_filter(Policy(compile_bundle(estate, groups)), categories)
    expected = set()
    for category in categories:
        candidates, logging = reference.in_play(estate, groups, category)
        expected |= {(one.assignment, one.rule) for one in candidates} | logging
    told = {(one.assignment, one.rule) for one in (*layer.lost, *layer.logged)}
    if layer.winner:
        told.add((layer.winner.assignment, layer.winner.rule))
    assert told == expected


@settings(max_examples=200, deadline=None)
@given(estates(), memberships, hosts, st.randoms(use_true_random=False))
def test_the_order_of_objects_never_changes_a_verdict(estate, groups, categories, shuffled):
    assignments = list(estate.assignments)
    shuffled.shuffle(assignments)
    turned = estate.replacing(assignments=tuple(assignments), rulesets=tuple(reversed(estate.rulesets)))
    before, after = (explain_filter(Policy(compile_bundle(one, groups)), categories) for one in (estate, turned))
    assert before.verdict == after.verdict


@settings(max_examples=200, deadline=None)
@given(estates(), memberships, hosts)
def test_adding_an_ordinary_rule_never_undoes_a_mandatory_one(estate, groups, categories):
    only = estate.replacing(assignments=tuple(one for one in estate.assignments if one.mandatory))
    alone, together = (explain_filter(Policy(compile_bundle(one, groups)), categories) for one in (only, estate))
    order = ["allow", "warn", "block"]
    if alone.verdict != "allow":
        assert order.index(together.verdict) >= order.index(alone.verdict)
