"""Address lists: a ruleset that includes one decides as if each address were a rule of its own."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from judging import assigned, judge, rules
from pydantic import ValidationError
from test_remedies import BASE, found_in, one_machine

from portero.core.insight.brought_rules import emptied, filled
from portero.core.insight.differences import differences
from portero.core.insight.effects.touching import touched_groups
from portero.core.insight.indicators import clean_up
from portero.core.nouns.address_list import AddressList, selecting
from portero.core.nouns.estate import Estate
from portero.formats.estate_document import read_estate, write_estate

HOSTS = ("a.example", ".b.a.example", "c.example", "https://c.example/drop/", "203.0.113.7", "https://a.example/x?y=1")
VISITS = ("http://a.example/", "http://b.a.example/", "http://c.example/", "http://c.example/drop/1",
          "http://203.0.113.7/", "http://d.b.a.example/", "http://a.example/x?y=1")  # fmt: skip


def including(kind: str, *own: dict, lists: dict[str, tuple[str, ...]], actions: dict[str, str]) -> Estate:
    includes = [{"address_list": key, "action": action} for key, action in actions.items()]
    address_lists = [{"key": key, "addresses": addresses} for key, addresses in lists.items()]
    return filled(assigned((rules(kind, *own, includes=includes), "weak"), address_lists=address_lists), {})


@pytest.mark.parametrize("kind", ["indicator", "site"])
@given(
    own=st.dictionaries(st.sampled_from(HOSTS), st.sampled_from(["allow", "block"])),
    first=st.lists(st.sampled_from(HOSTS), unique=True),
    second=st.lists(st.sampled_from(HOSTS), unique=True),
    actions=st.permutations(["allow", "block"]),
)
def test_each_address_is_a_rule_and_what_is_named_before_counts(kind, own, first, second, actions):
    written = [{**selecting(address, kind), "action": action} for address, action in own.items()]
    listed = {**dict.fromkeys(second, actions[1]), **dict.fromkeys(first, actions[0]), **own}
    by_hand = [{**selecting(address, kind), "action": action} for address, action in listed.items()]
    lists = {"first": tuple(first), "second": tuple(second)}
    estate = including(kind, *written, lists=lists, actions=dict(zip(lists, actions, strict=True)))
    plain = assigned((rules(kind, *by_hand), "weak"))
    for visit in VISITS:
        one, other = judge(estate, visit), judge(plain, visit)
        assert one.verdict == other.verdict
        won, wanted = (judged.layer.winner for judged in (one, other))
        assert (won and won.selector) == (wanted and wanted.selector)


def test_a_verdict_names_the_address_list_and_counts_on_behind_the_rulesets_own():
    estate = including(
        "indicator", {"host": "z.example", "action": "allow"},
        lists={"first": ("a.example",), "second": ("b.example", "c.example")},
        actions={"first": "block", "second": "warn"},
    )  # fmt: skip
    for host, rule, by in (("z", 1, None), ("a", 2, "first"), ("b", 3, "second"), ("c", 4, "second")):
        won = judge(estate, f"http://{host}.example/").layer.winner
        assert (won.rule, won.address_list) == (rule, by)


@pytest.mark.parametrize(
    ("kind", "address", "says"),
    [
        ("site", "203.0.113.0/24", "is a range of addresses, which no site pattern can be"),
        ("indicator", "*.a.example", "is a site pattern, which no indicator can be"),
        ("indicator", "com", "is a public suffix"),
    ],
)
def test_what_does_not_fit_the_ruleset_is_said_with_the_address(kind, address, says):
    includes = [{"address_list": "some", "action": "allow"}]
    estate = Estate.model_validate(
        {
            "address_lists": [{"key": "some", "addresses": ["a.example", address]}],
            "rulesets": [rules(kind, includes=includes)],
        }
    )
    (fault,) = estate.faults()
    assert fault.path == ("rulesets", 0, "includes", 0)
    assert says in fault.message
    assert "“some”" in fault.message
    assert len(filled(estate, {}).rulesets[0].rules) == 1


@pytest.mark.parametrize(
    ("addresses", "says"),
    [
        (["a.example", "A.example"], "addresses 1 and 2 are both “A.example”"),
        (["a.example", "?"], "address 2: "),
        (["a b.example"], "has a space in it"),
    ],
)
def test_a_list_that_cannot_be_used_is_refused(addresses, says):
    with pytest.raises(ValidationError) as problem:
        AddressList.model_validate({"key": "some", "addresses": addresses})
    assert says in str(problem.value) or "String should match" in str(problem.value)


@pytest.mark.parametrize(
    ("ruleset", "says"),
    [
        (rules("category", includes=[{"address_list": "some", "action": "block"}]), "and not one of kind category"),
        (rules("site", includes=[{"address_list": "some", "action": "warn"}]), "include 1: rules of kind site"),
        (rules("indicator", includes=[{"address_list": "some", "action": "block"}] * 2), "is included twice"),
        (rules("indicator", feed="f", includes=[{"address_list": "some", "action": "block"}]), "a feed brings"),
    ],
)
def test_rulesets_that_may_not_include_a_list_so(ruleset, says):
    with pytest.raises(ValidationError, match=says):
        Estate.model_validate({"rulesets": [ruleset]})


DOCUMENT = b"""
portero: 1
address_lists:
  - {key: some, addresses: [a.example, "*"]}
rulesets:
  - key: closed
    kind: site
    rules: [{pattern: b.example, action: allow}]
    includes: [{address_list: some, action: allow}]
assignments:
  - {ruleset: closed, to: whole-fleet}
"""


def test_a_document_holds_the_list_once_and_not_what_it_brings():
    estate = read_estate(DOCUMENT)
    assert [str(rule.selector) for rule in estate.rulesets[0].rules] == [
        "pattern b.example",
        "pattern a.example",
        "pattern *",
    ]
    assert emptied(estate, {}).rulesets[0].rules == estate.rulesets[0].own_rules
    assert estate.rulesets[0].model_dump()["rules"] == emptied(estate, {}).rulesets[0].model_dump()["rules"]
    written = write_estate(estate)
    assert written.count("a.example") == 1
    assert read_estate(written.encode()) == estate
    assert filled(estate, {}) is estate
    with pytest.raises(ValueError, match="a mandatory assignment may not allow broadly, and rule 3"):
        read_estate(DOCUMENT.replace(b"to: whole-fleet", b"to: whole-fleet, mandatory: true"))
    with pytest.raises(ValueError, match="there is no address list “same”; did you mean “some”"):
        read_estate(DOCUMENT.replace(b"address_list: some", b"address_list: same"))


def test_a_change_of_the_list_touches_all_that_include_it():
    before = read_estate(DOCUMENT)
    other = before.address_lists[0].model_copy(update={"addresses": ("c.example",)})
    after = filled(before.replacing(address_lists=(other,)), {})
    assert [rule.host_named for rule in after.rulesets[0].rules] == ["b.example", "c.example"]
    changes = list(differences(emptied(before, {}), emptied(after, {})))
    assert [(change.noun, change.key) for change in changes] == [("address list", "some")]
    assert touched_groups(before, after, changes) == {"whole-fleet"}


def test_what_a_list_brings_is_neither_cleaned_up_nor_edited_by_a_remedy():
    ended = {"address_list": "old", "action": "block", "valid_until": "2026-01-01T00:00:00Z"}
    estate = assigned(
        (rules("indicator", {"host": "a.example", "action": "block", "valid_until": "2026-01-01T00:00:00Z"},
               includes=[ended]), "whole-fleet"),
        address_lists=[{"key": "old", "addresses": ["b.example"]}],
    )  # fmt: skip
    estate = filled(estate, {})
    assert [item.selector for item in clean_up(estate, BASE)] == ["host a.example"]
    found = [one for one in found_in(estate, one_machine()).values() if one.rules]
    assert any(rule.address_list == "old" for one in found for rule in one.rules)
    for one in found:
        if any(rule.address_list for rule in one.rules):
            assert not {remedy.key for remedy in one.remedies} & {"remove-rules", "extend-rules"}
