"""Membership against a plain evaluator, and incremental against from scratch."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

import plain_membership
from portero.core.matching.fleet import Fleet
from portero.core.matching.members import Member, facts_from, facts_from_json
from portero.core.matching.membership import Membership
from portero.core.nouns.device import Facts
from portero.core.nouns.group import Group
from portero.core.nouns.versions import version_key
from portero.core.sentences import group_sentence

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
HOSTNAMES = ["tern-mess-1", "tern-bridge-1", "kiosk-07", "office-1"]
VERSIONS = ["4.1", "4.2", "4.2.0", "4.2-rc1", "12.4"]

texts = {
    "hostname": HOSTNAMES,
    "kind": ["kiosk", "laptop"],
    "unit": ["brackwater", "brackwater/ships", "brackwater/ships/tern", "brackwater/shipsyard"],
    "os.family": ["linux", "Windows"],
    "serial": ["S-1", "S-2"],
    "zone": ["Europe/Berlin", "Atlantic/Faroe"],
    "place": ["on-site", "off-site"],
    "labels.wave": ["first", "Second"],
    "layers.filter": ["enforcing", "observing"],
    "browsers.name": ["chromium", "gullwing"],
    "applications.product": ["Deckhand Viewer", "Chart Table"],
    "applications.vendor": ["Deckhand"],
}
ENUMERATED = ("kind", "place", "layers.filter")


@st.composite
def conditions(draw: st.DrawFn) -> dict:
    sort = draw(st.sampled_from(["text", "text", "text", "version", "address", "time", "has"]))
    if sort == "version":
        field = draw(st.sampled_from(["os.version", "browsers.version", "applications.version"]))
        value = draw(st.sampled_from(VERSIONS))
        return {"field": field, "op": draw(st.sampled_from(["from", "to", "below", "is"])), "value": value}
    if sort == "address":
        network = draw(st.sampled_from(["198.51.100.0/24", "2001:db8:5::/48", "192.0.2.0/25"]))
        return {"field": "addresses", "op": "within", "value": network}
    if sort == "time":
        value = draw(st.sampled_from(list(plain_membership.DURATIONS)))
        return {"field": "last_start", "op": "older_than", "value": value}
    if sort == "has":
        version = draw(st.sampled_from([{}, {"version": {"below": "4.2"}}, {"version": "4.2"}]))
        if draw(st.booleans()):
            value = {"product": draw(st.sampled_from(texts["applications.product"])), **version}
            return {"field": "applications", "op": "has", "value": value}
        return {"field": "browsers", "op": "has", "value": {"managed": draw(st.booleans()), **version}}
    field = draw(st.sampled_from(list(texts)))
    value = draw(st.sampled_from(texts[field]))
    ops = ["is", "one_of"] if field in ENUMERATED else ["is", "one_of", "starts_with", "ends_with", "contains", "like"]
    op = draw(st.sampled_from([*ops, "under"] if field == "unit" else ops))
    if op == "one_of":
        return {"field": field, "op": op, "value": draw(st.lists(st.sampled_from(texts[field]), min_size=1))}
    if op == "like":
        value = draw(st.sampled_from([value, value[:3] + "*", "*" + value[-2:], value[:-1] + "?"]))
    elif op in ("starts_with", "ends_with", "contains"):
        value = {"starts_with": value[:3], "ends_with": value[-2:], "contains": value[1:3]}[op]
    return {"field": field, "op": op, "value": value.upper() if field not in ENUMERATED else value}


def branches(depth: int) -> st.SearchStrategy[list[dict]]:
    inner = conditions() if depth == 0 else st.one_of(conditions(), conditions(), rules(depth - 1))
    return st.lists(inner, min_size=1, max_size=3)


def rules(depth: int = 2) -> st.SearchStrategy[dict]:
    parts = {name: branches(depth) for name in ("all", "any", "none")}
    return st.fixed_dictionaries({}, optional=parts).filter(bool)


pins = st.fixed_dictionaries(
    {}, optional={where: st.lists(st.sampled_from(HOSTNAMES), max_size=2, unique=True) for where in ("in", "out")}
)
group_lists = st.lists(
    st.fixed_dictionaries({}, optional={"members": rules(), "pins": pins}), min_size=1, max_size=5
).map(lambda made: [{"key": f"g{number}", **one} for number, one in enumerate(made)])

item = st.fixed_dictionaries({}, optional={"version": st.sampled_from(VERSIONS)})
applications = st.builds(
    lambda version, more: {**version, **more},
    item,
    st.fixed_dictionaries(
        {"product": st.sampled_from(texts["applications.product"])}, optional={"vendor": st.just("Deckhand")}
    ),
)
browsers = st.builds(
    lambda version, more: {**version, **more},
    item,
    st.fixed_dictionaries({"name": st.sampled_from(texts["browsers.name"]), "managed": st.booleans()}),
)
devices = st.fixed_dictionaries(
    {"hostname": st.sampled_from(HOSTNAMES), "kind": st.sampled_from(texts["kind"])},
    optional={
        "unit": st.sampled_from(texts["unit"]),
        "os": st.fixed_dictionaries({"family": st.just("linux")}, optional={"version": st.sampled_from(VERSIONS)}),
        "addresses": st.lists(st.sampled_from(["198.51.100.7", "2001:db8:5::9", "192.0.2.200"]), max_size=2),
        "serial": st.sampled_from(texts["serial"]),
        "zone": st.sampled_from(texts["zone"]),
        "place": st.sampled_from(texts["place"]),
        "layers": st.fixed_dictionaries({}, optional={"filter": st.sampled_from(texts["layers.filter"])}),
        "browsers": st.lists(browsers, max_size=2),
        "applications": st.lists(applications, max_size=2),
        "last_start": st.sampled_from([NOW - timedelta(days=40), NOW - timedelta(hours=2), NOW]),
        "labels": st.fixed_dictionaries({}, optional={"wave": st.sampled_from(["first", "second"])}),
    },
)


def member(id: str, device: dict, **more) -> Member:
    facts = Facts.model_validate({name: value for name, value in device.items() if name != "labels"})
    assert facts_from(facts) == facts_from_json(facts.model_dump_json(exclude_none=True))
    return Member(id, facts_from(facts), device.get("labels"), **more)


def compiled(groups: list[dict], previous: Membership | None = None) -> Membership:
    nouns = [Group.model_validate(one) for one in groups]
    assert [Group.model_validate(one.model_dump(mode="json", exclude_none=True)) for one in nouns] == nouns
    return Membership(nouns, [one.key for one in nouns], previous)


@settings(max_examples=500, deadline=None)
@given(group_lists, st.lists(devices, min_size=1, max_size=6))
def test_the_compiled_groups_are_those_of_the_plain_evaluator(groups, fleet):
    membership = compiled(groups)
    order = [one["key"] for one in groups]
    for device in fleet:
        expected = plain_membership.groups_of(groups, order, device, NOW)
        assert membership.groups_of(member("id", device), NOW) == expected


@settings(max_examples=200, deadline=None)
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


@settings(max_examples=100, deadline=None)
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
