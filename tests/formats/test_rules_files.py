"""Rules as CSV and STIX: a round trip through CSV loses nothing, STIX is the standard's, what it cannot say is told."""

from __future__ import annotations

import csv
import json
from datetime import UTC, datetime, timedelta

import pytest
import stix2
from hypothesis import given, settings
from hypothesis import strategies as st
from stix2validator import ValidationOptions, validate_string

from portero.core.nouns.rule import Rule
from portero.formats.cells import guarded, unguarded
from portero.formats.feed_files import BadFeed, RefusedLine
from portero.formats.rules_csv import read_rules, write_rules
from portero.formats.stix import Defaults, LeftOut, StixRule, named_in, objects_of, read_objects, write_bundle

NOW = datetime(2026, 11, 25, 12, tzinfo=UTC)
SELECTORS = st.one_of(
    st.builds(lambda host, exact: {"host": host, **exact}, st.sampled_from(["a.example", "b.c.example"]),
              st.sampled_from([{}, {"exact": True}, {"exact": False}])),
    st.builds(lambda path, exact: {"url": f"https://a.example/{path}", **exact},
              st.sampled_from(["", "x", "x/y?q=1", "it's", "a%2Fb", "é"]), st.sampled_from([{}, {"exact": True}])),
    st.sampled_from([{"address": "203.0.113.0/24"}, {"address": "2001:db8::7"}, {"service": "drop"},
                     {"decision": "declined"}, {"category": "games"}, {"family": "pastime"}, {"everything": True},
                     {"search_term": "=cheat codes"}, {"media_type": "video/*"}, {"pattern": "shop.example"},
                     {"application_set": "remote"}, {"sha256": "ab" * 32}]),
    st.builds(
        lambda low, more: {"suitability": {"from": low, "to": low + more}}, st.integers(0, 40), st.integers(0, 9)
    ),
)  # fmt: skip
WORDS = st.text(
    st.characters(codec="utf-8", exclude_categories=["Cs", "Cc", "Zl", "Zp"]), max_size=40
) | st.sampled_from(["=1+1", "'=1+1", "''-x", "+49", "@here", '"quoted", with commas', "two\nlines", "\ttab", "-", "'"])
RULES = st.builds(
    lambda selector, action, name, note, until: Rule.model_validate(
        {**selector, "action": action, "name": name.strip() or None, "note": note.strip() or None, "valid_until": until}
    ),
    SELECTORS,
    st.sampled_from(["block", "warn", "log"]),
    WORDS,
    WORDS,
    st.none() | st.datetimes(datetime(2020, 1, 1), datetime(2030, 1, 1), timezones=st.just(UTC)).map(
        lambda at: at.replace(microsecond=at.microsecond // 1000 * 1000)
    ),
)  # fmt: skip


def through(rules: list[Rule]) -> list[Rule]:
    return [read[1] for read in read_rules(line.encode() for line in write_rules(rules))]


@given(st.lists(RULES, max_size=6))
def test_a_round_trip_through_csv_loses_nothing(rules):
    assert through(rules) == rules


@given(WORDS)
def test_no_cell_is_a_formula_and_each_comes_back(text):
    assert guarded(text)[:1] not in ("=", "+", "-", "@", "\t", "\r")
    assert unguarded(guarded(text)) == text


def test_what_cannot_be_used_of_a_file_is_told_by_line():
    data = (
        b"value,selector,action,valid_until\n"
        b"a.example,host,block,\n"
        b"b.example,hots,block,\n"
        b"c.example,host,,\n"
        b"d.example,host,block,tomorrow\n"
        b"9,suitability,block,\n"
        b'"e\nf",host,block,\n'
        b"g.example,host,block,\n"
    ) + b"\xff.example,host,block,\n"
    found = list(read_rules([data]))
    assert [rule[0] for rule in found if not isinstance(rule, RefusedLine)] == [2, 9]
    problems = {rule.number: rule.problem for rule in found if isinstance(rule, RefusedLine)}
    assert problems[3] == "there is no selector “hots”; did you mean “host”?"
    assert problems[4].startswith("action: ")
    assert problems[5].startswith("valid_until: ")
    assert problems[6] == "“9” is no span of suitability; write it as in 0..25"
    assert "is not a web host" in problems[7]
    assert problems[10] == "the line is not UTF-8"
    assert [read_rule[1].action for read_rule in read_rules([b"selector,value\nhost,a.example\n"], "warn")] == ["warn"]


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (b"a.example,block\n", "the first line must name the columns"),
        (b"selector,value,acton\n", "did you mean “action”"),
    ],
)
def test_a_file_without_the_columns_is_refused(data, why):
    with pytest.raises(BadFeed, match=why):
        list(read_rules([data]))


@given(st.binary(max_size=300))
def test_whatever_comes_as_csv_is_read_or_refused(data):
    try:
        for read in read_rules([b"selector,value,action\n" + data]):
            assert isinstance(read, (RefusedLine, tuple))
    except BadFeed:
        pass


# --- STIX ---


def indicator(pattern: str, **more: object) -> dict[str, object]:
    return {
        "type": "indicator",
        "id": "indicator--8e2e2d2b-17d4-4cbf-938f-98ee46b3cd3f",
        "name": "One",
        "pattern": pattern,
        "pattern_type": "stix",
        "valid_from": "2026-11-01T00:00:00Z",
        **more,
    }


def read(*objects: dict[str, object], **defaults: object) -> list[StixRule | LeftOut]:
    return list(read_objects(objects, Defaults("block", NOW, **defaults)))


@pytest.mark.parametrize(
    ("pattern", "named"),
    [
        ("[domain-name:value = 'a.example']", [("host", "a.example")]),
        ("[ domain-name:value='a.example' OR url:value = 'http://b.example/it\\'s' ]",
         [("host", "a.example"), ("url", "http://b.example/it's")]),
        ("[ipv4-addr:value ISSUBSET '203.0.113.0/24'] OR [ipv6-addr:value = '2001:db8::7']",
         [("address", "203.0.113.0/24"), ("address", "2001:db8::7")]),
        ("[domain-name:value IN ('a.example', 'b.example')]", [("host", "a.example"), ("host", "b.example")]),
        ("([file:hashes.'SHA-256' = '" + "ab" * 32 + "'])", [("sha256", "ab" * 32)]),
    ],
)  # fmt: skip
def test_what_a_pattern_names(pattern, named):
    assert named_in(pattern) == named


@pytest.mark.parametrize(
    ("pattern", "why"),
    [
        ("[domain-name:value = 'a.example' AND url:value = 'http://a.example/']", "several things at once"),
        ("[url:value = 'http://a.example/'] AND [url:value = 'http://b.example/']", "several observations"),
        ("[url:value = 'http://a.example/'] FOLLOWEDBY [url:value = 'http://b.example/']", "one observation after"),
        ("[url:value = 'http://a.example/'] REPEATS 5 TIMES", "counts observations"),
        ("[url:value = 'http://a.example/'] WITHIN 5 SECONDS", "span of time"),
        ("[domain-name:value != 'a.example']", "names what it is not"),
        ("[domain-name:value NOT IN ('a.example')]", "names what it is not"),
        ("[url:value LIKE 'http://%']", "compares by order"),
        ("[url:value MATCHES '^http']", "compares by order"),
        ("[file:hashes.MD5 = 'ab']", "told by their SHA-256 here, not by MD5"),
        ("[email-addr:value = 'a@b.example']", "nothing here is told by email-addr:value"),
        ("[domain-name:value = 5]", "is no text"),
        ("not a pattern", "does not read as STIX"),
        ("[" * 5000, "does not read as STIX"),
        ("(" * 3000 + "[url:value = 'http://a.example/']" + ")" * 3000, "too deep to be read"),
        ("(" * 200 + " AND ".join(["[a:b = 'c']"] * 600) + ")" * 200, "too deep to be read"),
        ("x" * 30_000, "longer than 20,000"),
    ],
)
def test_what_cannot_be_expressed_is_kept_aside_with_the_reason(pattern, why):
    (aside,) = read(indicator(pattern))
    assert isinstance(aside, LeftOut)
    assert why in aside.problem
    assert aside.document["pattern"] == pattern


JSON = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text(max_size=12)
    | st.just("\ud800"),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3),
    max_leaves=6,
)
FIELDS = [
    "id",
    "name",
    "description",
    "labels",
    "indicator_types",
    "pattern",
    "pattern_type",
    "valid_from",
    "valid_until",
]
ODD = st.fixed_dictionaries({}, optional=dict.fromkeys(FIELDS, JSON))


@given(ODD, st.sampled_from([None, 30, 10**9]))
def test_whatever_stands_in_an_indicator_makes_a_rule_or_is_kept_aside(odd, lifetime):
    bundle = {"type": "bundle", "objects": [{**indicator("[domain-name:value = 'a.example']"), **odd}]}
    (one,) = read(*objects_of(json.dumps(bundle).encode()), lifetime_days=lifetime)
    if isinstance(one, LeftOut):
        assert one.name
        assert one.problem
        json.dumps(one, ensure_ascii=False, allow_nan=False).encode()  # it can be kept, and sent
    else:
        f"{one.id} {one.rule.model_dump_json()}".encode()


def test_an_indicator_brings_its_name_its_span_and_what_it_says_of_itself():
    (one,) = read(
        indicator("[domain-name:value = 'a.example']", description="Why", labels=["exact", "portero-action:warn"])
    )
    assert one.rule == Rule(host="a.example", exact=True, action="warn", name="One", note="Why")
    (one,) = read(indicator("[domain-name:value = 'a.example']"), lifetime_days=30)
    assert one.rule.valid_until == datetime(2026, 12, 1, tzinfo=UTC)
    (one,) = read(indicator("[domain-name:value = 'a.example']", valid_until="2026-12-24T00:00:00Z"), lifetime_days=30)
    assert one.rule.valid_until == datetime(2026, 12, 24, tzinfo=UTC)
    (aside,) = read(indicator("[domain-name:value = 'a.example']", indicator_types=["benign"]))
    assert "never allows" in aside.problem
    (one,) = read(indicator("[domain-name:value = 'a.example']", indicator_types=["benign"]), may_allow=True)
    assert one.rule.action == "allow"
    (aside,) = read(indicator("[domain-name:value = 'a.example']", valid_from="2027-01-01T00:00:00Z"))
    assert "begins only on 2027-01-01" in aside.problem
    assert read({"type": "malware", "name": "no indicator"}) == []


@pytest.mark.parametrize(
    "data", [b"{", b"[]", b'{"type": "bundle", "objects": {}}', b'{"type": "indicator"}', b"[" * 9999]
)
def test_what_is_no_bundle_is_refused(data):
    with pytest.raises(BadFeed):
        objects_of(data)


@settings(max_examples=40)
@given(st.lists(RULES, max_size=8, unique_by=lambda rule: rule.selector))
def test_bundles_are_the_standards_and_come_back_as_they_went(rules):
    bundle, aside = write_bundle("fraud", rules, NOW, NOW - timedelta(days=3000))
    text = json.dumps(bundle)
    if bundle["objects"]:
        assert validate_string(text, ValidationOptions(version="2.1", strict=False)).is_valid
        assert len(stix2.parse(text).objects) == len(bundle["objects"])
    else:
        assert len(aside) == len(rules)
    assert {one.name for one in aside} == {
        str(rule.selector) for rule in rules if rule.selector.kind not in ("host", "url", "address", "sha256")
    }
    back = list(read_objects(objects_of(text.encode()), Defaults("log", NOW, may_allow=True)))
    expressed = [rule for rule in rules if str(rule.selector) not in {one.name for one in aside}]
    assert [(object_.rule.selector, object_.rule.action, object_.rule.valid_until) for object_ in back] == [
        (rule.selector, rule.action, rule.valid_until) for rule in expressed
    ]


def test_csv_of_rules_is_csv():
    rules = [Rule(host="a.example", action="block", name='say "no", please', note="=SUM(A1)")]
    rows = list(csv.reader(list(write_rules(rules))))
    assert rows[1] == ["host", "a.example", "", "block", 'say "no", please', "'=SUM(A1)", "", ""]
