"""Membership against a plain evaluator, and incremental against from scratch."""

from __future__ import annotations

from datetime import timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

import plain_membership
from made_fleets import NOW, compiled, devices, group_lists, member
from portero.core.matching.fleet import Fleet
from portero.core.matching.members import Member, MemberFacts
from portero.core.matching.membership import Membership
from portero.core.nouns.group import Group
from portero.core.nouns.membership import Condition
from portero.core.nouns.versions import version_key
from portero.core.sentences import group_sentence
from thorough import times


@settings(max_examples=times(150, 500))
@given(group_lists, st.lists(devices, min_size=1, max_size=6))
def test_the_compiled_groups_are_those_of_the_plain_evaluator(groups, fleet):
    membership = compiled(groups)
    order = [group["key"] for group in groups]
    for device in fleet:
        expected = plain_membership.groups_of(groups, order, device, NOW)
        assert membership.groups_of(member(device["hostname"], device), NOW) == expected


@settings(max_examples=times(60, 200))
@given(st.lists(st.one_of(group_lists, devices, st.integers(1, 40)), min_size=2, max_size=12), group_lists)
def test_incremental_is_as_from_scratch(steps, groups):
    now = NOW
    fleet, known = Fleet(compiled(groups)), {}
    for step in steps:
        if isinstance(step, int):
            now += timedelta(days=step)
            fleet.take(fleet.plan(fleet.membership, now))
        elif isinstance(step, list):
            groups = step
            fleet.take(fleet.plan(compiled(groups, fleet.membership), now))
        else:
            known[step["hostname"]] = step
            fleet.put(member(step["hostname"], step), now)
    scratch = compiled(groups)
    for id, device in known.items():
        assert fleet.groups_of(id) == scratch.groups_of(member(id, device), now)


@settings(max_examples=times(40, 100))
@given(group_lists, devices)
def test_between_two_changes_by_time_alone_nothing_changes(groups, device):
    membership, one = compiled(groups), member("id", device)
    following = membership.next_change(one, NOW)
    before = membership.groups_of(one, NOW)
    last = following - timedelta(seconds=1) if following else NOW + timedelta(days=400)
    assert membership.groups_of(one, last) == before


def test_a_plan_changes_nothing_until_it_is_taken():
    fleet = Fleet(compiled([{"key": "a", "members": {"all": [{"field": "kind", "op": "is", "value": "kiosk"}]}}]))
    fleet.put(member("x", {"hostname": "kiosk-07", "kind": "kiosk"}), NOW)
    none = compiled([{"key": "a"}], fleet.membership)
    planned = fleet.plan(none, NOW)
    assert planned.groups == {"x": ("unclaimed", "whole-fleet")}
    assert fleet.groups_of("x") == ("a", "whole-fleet")


def test_pins_hold_by_id_and_by_the_hostname_that_is_the_devices_own():
    membership = compiled([{"key": "g", "pins": {"in": ["Kiosk-07", {"device": "id-2", "reason": "asked for"}]}}])
    named = {"hostname": "kiosk-07", "kind": "kiosk"}
    assert membership.groups_of(member("id-1", named), NOW)[0] == "g"
    assert membership.groups_of(member("id-3", named, keeps_name=False), NOW)[0] == "unclaimed"
    assert membership.groups_of(member("id-2", named, keeps_name=False), NOW)[0] == "g"


def test_lifecycle_is_a_fact_like_others():
    membership = compiled([{"key": "g", "members": {"all": [{"field": "lifecycle", "op": "is", "value": "silent"}]}}])
    assert membership.names_lifecycle
    device = {"hostname": "office-1", "kind": "laptop"}
    assert membership.groups_of(member("a", device, lifecycle="silent"), NOW)[0] == "g"
    assert membership.groups_of(member("a", device), NOW)[0] == "unclaimed"


@pytest.mark.parametrize(
    ("condition", "told"),
    [
        ({"field": "knd", "op": "is", "value": "kiosk"}, "there is no fact “knd”; did you mean “kind”"),
        ({"field": "kind", "op": "is", "value": "kioks"}, "there is no kind “kioks”; did you mean “kiosk”?"),
        ({"field": "kind", "op": "under", "value": "x"}, "“kind” is not compared with “under”; use is, one_of"),
        ({"field": "os.version", "op": "below", "value": "new"}, "is not a version"),
        ({"field": "last_start", "op": "older_than", "value": "30 days"}, "write it as ISO 8601 has it"),
        ({"field": "last_start", "op": "older_than", "value": "-P3D"}, "is not a duration"),
        ({"field": "applications", "op": "is", "value": "x"}, "is not compared with “is”; use has"),
        ({"field": "applications", "op": "has", "value": "x"}, "takes a mapping of fields"),
        ({"field": "applications", "op": "has", "value": {"nmae": "x"}}, "nmae"),
        ({"field": "applications", "op": "has", "value": {"name": "x"}}, "there is no field of applications “name”"),
        ({"field": "browsers", "op": "has", "value": {"version": {}}}, "a version needs one of from, to, below, is"),
        ({"field": "applications", "op": "has", "value": {}}, "needs at least one of"),
    ],
)
def test_a_condition_that_cannot_be_meant_says_why(condition, told):
    with pytest.raises(ValidationError, match=r"membership|Group") as refused:
        Group.model_validate({"key": "g", "members": {"all": [condition]}})
    assert told in str(refused.value)


def test_versions_sort_by_their_numeric_parts():
    ascending = ["1", "4.2-alpha", "4.2-rc1", "4.2-rc2", "4.2", "4.2.1", "4.10", "12.4"]
    assert sorted(ascending[3:] + ascending[:3], key=version_key) == ascending
    assert version_key("4.2") == version_key("4.2.0") == version_key("v4.2+build7")
    assert version_key("unknown") is None


def test_a_group_in_words():
    group = Group.model_validate(
        {
            "key": "g",
            "members": {
                "all": [
                    {"field": "unit", "op": "under", "value": "brackwater/ships"},
                    {
                        "field": "applications",
                        "op": "has",
                        "value": {"product": "Deckhand Viewer", "version": {"below": "4.2"}},
                    },
                ],
                "none": [{"field": "last_start", "op": "older_than", "value": "P30D"}],
            },
            "pins": {"in": ["kiosk-07"]},
        }
    )
    assert group_sentence(group) == (
        "unit is under brackwater/ships and applications hold one with product Deckhand Viewer and version below 4.2"
        " and not (last_start is longer ago than P30D); 1 machine pinned in"
    )


def test_a_sample_is_stable_about_as_large_as_it_says_and_within_larger_ones():
    def held(share: str) -> set[str]:
        rule = {"all": [{"field": "sample", "op": "below", "value": share}]}
        group = Group.model_validate({"key": "some", "members": rule})
        members = [Member(f"device-{number}", MemberFacts(f"host-{number}")) for number in range(5_000)]
        return {member.id for member in Membership([group], ["some"]).held_by("some", members, NOW)}

    tenth, quarter = held("10 %"), held("25%")
    assert tenth < quarter
    assert 400 < len(tenth) < 600
    assert held("0") == set()
    assert len(held("100 %")) == 5_000


@pytest.mark.parametrize("share", ["101 %", "-1", "ten", "", "5.123 %"])
def test_a_share_is_between_nothing_and_all(share):
    with pytest.raises(ValueError, match=r"share|at least 1 character"):
        Condition(field="sample", op="below", value=share)
