"""Previews of groups and of their order: what they say is what then happens."""

from __future__ import annotations

from collections import Counter
from functools import partial

from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import assignment, group, ruleset
from made_fleets import NOW, compiled, devices, group_lists, member
from portero.core.insight.effects.matcher import Matcher
from portero.core.insight.effects.world import World
from portero.core.insight.group_previews import preview_group
from portero.core.insight.previews import look_ahead
from portero.core.matching.categories import EMPTY_INDEX
from portero.core.matching.fleet import Fleet
from portero.core.matching.members import Member, facts_from
from portero.core.matching.membership import Membership
from portero.core.nouns.device import Facts
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import Group
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.policy import Policy
from portero.core.resolving.situations import Situation
from thorough import times


@settings(max_examples=times(60, 200))
@given(group_lists, group_lists, st.lists(devices, min_size=1, max_size=8))
def test_a_preview_says_what_saving_then_does(before, after, fleet):
    held = Fleet(compiled(before))
    for number, device in enumerate(fleet):
        held.put(member(f"id-{number}", device, keeps_name=number == 0), NOW)
    edited = {**after[0], "key": "g0"}
    preview = preview_group(held, Group.model_validate(edited), NOW)
    was = {one.id for one in held if "g0" in held.groups_of(one.id)}
    held.take(held.plan(compiled([edited, *before[1:]], held.membership), NOW))
    now = {one.id for one in held if "g0" in held.groups_of(one.id)}
    assert (preview.devices, preview.comes_in, preview.drops_out) == (len(now), len(now - was), len(was - now))
    names = {one.id: one.facts.hostname for one in held}
    assert set(preview.comes_in_examples) == {names[id] for id in now - was}
    assert set(preview.drops_out_examples) == {names[id] for id in was - now}


def a_fleet(estate: Estate, *memberships: tuple[str, ...]) -> Fleet:
    """Machines that are in just these groups, by labels."""
    fleet = Fleet(Membership(estate.groups, estate.group_order))
    for number, groups in enumerate(memberships):
        facts = facts_from(Facts(hostname=f"m-{number}"))
        fleet.put(Member(f"m-{number}", facts, dict.fromkeys(groups, "yes")), NOW)
    return fleet


def world_of(fleet: Fleet) -> World:
    matcher = partial(Matcher, index=EMPTY_INDEX, catalogue={})
    return World(fleet.members(), fleet.groups_of, Directory(), list, {}, NOW, matcher, lambda: False)


ACTIONS = st.sampled_from(["allow", "warn", "block"])


@settings(max_examples=times(30, 100))
@given(
    st.lists(ACTIONS, min_size=3, max_size=3),
    st.permutations(["a", "b", "c"]),
    st.lists(st.sets(st.sampled_from(["a", "b", "c"]), min_size=1), min_size=1, max_size=6),
)
def test_another_order_changes_the_verdicts_that_its_preview_names(actions, order, memberships):
    keys = ("a", "b", "c")
    labelled = tuple(group(key, all=[{"field": f"labels.{key}", "op": "is", "value": "yes"}]) for key in keys)
    rulesets = tuple(ruleset(f"r{key}", games=action) for key, action in zip(keys, actions, strict=True))
    put = tuple(assignment(f"r{key}", key).keyed(()) for key in keys)
    before = Estate(precedence=keys, groups=labelled, rulesets=rulesets, assignments=put)
    after = before.replacing(precedence=tuple(order))
    fleet = a_fleet(before, *(tuple(membership) for membership in memberships))
    moved = fleet.plan(Membership(after.groups, after.group_order, fleet.membership), NOW).groups
    preview = look_ahead(before, after, moved, world_of(fleet))

    expected: Counter[tuple[str, str]] = Counter()
    turned = 0
    for one in fleet:
        verdicts = []
        for estate in (before, after):
            groups = Membership(estate.groups, estate.group_order).groups_of(one, NOW)
            decided = Policy(compile_bundle(estate, groups)).frame(Situation(NOW)).category("games").winner
            verdicts.append((groups, decided.action if decided else "allow"))
        turned += verdicts[0][0] != verdicts[1][0]
        if verdicts[0][1] != verdicts[1][1]:
            expected[verdicts[0][1], verdicts[1][1]] += 1
    assert len(moved) == turned
    assert {(verdict.before, verdict.after): verdict.devices for verdict in preview.verdicts} == expected
