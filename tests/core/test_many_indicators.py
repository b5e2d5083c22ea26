"""Questions about many indicators: what may go changes no verdict; what is within what; what machines carry."""

from __future__ import annotations

import random
from datetime import UTC, datetime, timedelta

import pytest

from portero.core.insight.brought_rules import by_kind, emptied, filled
from portero.core.insight.capacity import heaviest, loads, overload
from portero.core.insight.indicators import Covering, Placed, clean_up, overlaps
from portero.core.insight.offline import OfflineEstate
from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import Estate, FactsDocument
from portero.core.nouns.rule import Rule
from portero.core.nouns.settings import Settings

NOW = datetime(2026, 11, 25, 12, tzinfo=UTC)
HOSTS = ["a.example", "b.a.example", "c.b.a.example", "d.example", "203.0.113.7", "203.0.113.9"]
URLS = ["/", "/x", "/x/y", "/x/y?q=1", "/z"]
INDEX = MemoryIndex({"a.example": ("games",), "d.example": ("music",)})


def random_rule(chance: random.Random) -> dict[str, object]:
    host = chance.choice(HOSTS)
    is_address = host[0].isdigit()
    kind = chance.choice(["host", "host", "url", "address"]) if not is_address else chance.choice(["url", "address"])
    if kind == "address":
        selector: dict[str, object] = {"address": chance.choice(["203.0.113.7", "203.0.113.0/24", "203.0.113.0/28"])}
    else:
        selector = {kind: host if kind == "host" else f"http://{host}{chance.choice(URLS)}"}
        if chance.random() < 0.2:
            selector["exact"] = True
    ends = chance.choice([None, None, NOW - timedelta(days=1), NOW + timedelta(hours=1), NOW + timedelta(days=5)])
    return {**selector, "action": chance.choice(["block", "block", "warn", "allow", "log"]), "valid_until": ends}


def random_estate(chance: random.Random) -> Estate:
    """A few rulesets with many rules about few places, so that most of them meet."""
    rulesets, assignments = [], []
    for number in range(4):
        fed = chance.random() < 0.2
        rules = {}
        for _ in range(chance.randrange(3, 9)):
            rule = random_rule(chance)
            if not (fed and rule["action"] == "allow"):
                made = Rule.model_validate(rule)
                rules.setdefault(made.selector, made)
        feed = {"feed": "watch"} if fed else {}
        rulesets.append({"key": f"r{number}", "kind": "indicator", "rules": list(rules.values()), **feed})
        for _ in range(chance.choice([0, 1, 1, 2])):
            one: dict[str, object] = {
                "key": f"as-{len(assignments)}",
                "ruleset": f"r{number}",
                "to": chance.sample(["one", "two", "whole-fleet"], chance.choice([1, 1, 2])),
                "mandatory": chance.random() < 0.15
                and not any(rule.action == "allow" and "/" in (rule.address or "") for rule in rules.values()),
            }
            if chance.random() < 0.2:
                one["place"] = "on-site"
            if chance.random() < 0.1:
                one["action"] = chance.choice(["warn", "log"])
            assignments.append(one)
    categories = [
        {"category": "games", "action": chance.choice(["block", "warn"])},
        {"category": "music", "action": "block"},
    ]
    rulesets.append({"key": "c", "kind": "category", "rules": categories})
    assignments.append({"key": "c", "ruleset": "c", "to": ["whole-fleet"], "mandatory": chance.random() < 0.2})
    groups = [
        {"key": key, "members": {"all": [{"field": "unit", "op": "is", "value": key}]}} for key in ("one", "two")
    ]  # fmt: skip
    return Estate.model_validate({"groups": groups, "rulesets": rulesets, "assignments": assignments})


FACTS = FactsDocument.model_validate(
    {
        "devices": [
            {"hostname": "m1", "unit": "one", "place": "on-site"},
            {"hostname": "m2", "unit": "two"},
            {"hostname": "m3"},
        ]
    }
)


def words(estate: Estate) -> dict[tuple[str, str, int], str]:
    """The verdict on every visit that matters, on every machine, now and later."""
    offline = OfflineEstate(estate, FACTS, INDEX, NOW)
    found = {}
    for device in ("m1", "m2", "m3"):
        for host in [*HOSTS, "e.c.b.a.example"]:
            for path in URLS:
                for hours in (0, 2, 200):
                    asked = {"device": device, "url": f"http://{host}{path}", "at": NOW + timedelta(hours=hours)}
                    told = offline.explain(Attempt.model_validate(asked)).intended
                    logged = bool(told.layers[-1].logged) and told.verdict == "allow"
                    found[device, host + path, hours] = "log" if logged else told.verdict.value
    return found


def without(estate: Estate, gone: set[tuple[str, str]]) -> Estate:
    return estate.replacing(
        rulesets=tuple(
            ruleset.model_copy(
                update={"rules": tuple(rule for rule in ruleset.rules if (ruleset.key, str(rule.selector)) not in gone)}
            )
            for ruleset in estate.rulesets
        )
    )


@pytest.mark.parametrize("seed", range(60))
def test_what_a_clean_up_takes_out_changes_no_verdict(seed):
    estate = random_estate(random.Random(seed))
    items = [one for one in clean_up(estate, NOW) if estate.ruleset_by_key[one.ruleset].feed is None]
    assert words(without(estate, {(item.ruleset, item.selector) for item in items})) == words(estate)


def test_a_clean_up_finds_something_of_each_kind():
    found = [one.reason for seed in range(60) for one in clean_up(random_estate(random.Random(seed)), NOW)]
    assert {reason: found.count(reason) > 10 for reason in ("ended", "overshadowed")} == {
        "ended": True,
        "overshadowed": True,
    }
    assert "duplicate" in found


def rulesets(*listed: tuple[str, list[dict[str, object]], str | None]) -> Estate:
    return Estate.model_validate(
        {
            "rulesets": [
                {"key": key, "kind": "indicator", "rules": rules, "feed": feed} for key, rules, feed in listed
            ],
            "assignments": [{"key": key, "ruleset": key, "to": ["whole-fleet"]} for key, _, _ in listed],
        }
    )


def test_of_two_that_say_the_same_only_the_later_can_go():
    same = [{"host": "a.example", "action": "block"}]
    estate = rulesets(("first", same, None), ("second", same, None), ("fed", same, "watch"))
    assert [(one.ruleset, one.reason, one.by) for one in clean_up(estate, NOW)] == [
        ("second", "duplicate", "host a.example in first"),
        ("fed", "duplicate", "host a.example in first"),
    ]


@pytest.mark.parametrize(
    ("wide", "narrow", "is_within"),
    [
        ({"host": "a.example"}, {"host": "b.a.example"}, True),
        ({"host": "a.example"}, {"host": "a.example", "exact": True}, True),
        ({"host": "a.example", "exact": True}, {"url": "http://a.example/x"}, True),
        ({"host": "a.example", "exact": True}, {"host": "b.a.example"}, False),
        ({"url": "http://a.example/x"}, {"url": "http://a.example/x/y"}, True),
        ({"url": "http://a.example/x"}, {"url": "http://b.a.example/x/y"}, False),
        ({"url": "http://a.example/"}, {"host": "a.example"}, False),
        ({"address": "203.0.113.0/24"}, {"address": "203.0.113.0/28"}, True),
        ({"address": "203.0.113.0/28"}, {"address": "203.0.113.0/24"}, False),
        ({"address": "203.0.113.0/24"}, {"url": "http://203.0.113.7/x"}, True),
        ({"host": "a.example"}, {"address": "203.0.113.7"}, False),
    ],
)  # fmt: skip
def test_what_is_within_what(wide, narrow, is_within):
    estate = rulesets(("wide", [{**wide, "action": "block"}], None))
    ruleset, inner = estate.rulesets[0], Rule.model_validate({**narrow, "action": "warn"})
    found = Covering([Placed(ruleset, 1, ruleset.rules[0])]).of(inner)
    assert bool(found) is is_within
    # from either side, an overlap is told
    other = rulesets(("there", [inner.model_dump()], None))
    told = overlaps([(1, inner)], estate, 5)[0]
    assert told == overlaps([(1, ruleset.rules[0])], other, 5)[0]
    assert told >= int(is_within)


def test_what_machines_carry_and_when_that_is_too_much():
    hand, fed = ([{"host": f"{name}{n}.example", "action": "block"} for n in range(5)] for name in "hf")
    estate = rulesets(("hand", hand, None), ("fed", fed, "watch"))
    groups = [{"key": "one", "pins": {"in": ["m1"]}}]
    some = Estate.model_validate({**estate.model_dump(), "groups": groups})
    assigned = [
        assignment.model_copy(update={"to": ("one",)}) if assignment.key == "fed" else assignment
        for assignment in some.assignments
    ]
    some = some.replacing(assignments=tuple(assigned))
    combinations = [("one", "whole-fleet"), ("whole-fleet",)]
    assert [(load.by_hand, load.by_feed) for load in loads(some, combinations)] == [(5, 5), (5, 0)]
    assert heaviest(some, combinations).groups == ("one", "whole-fleet")
    full = some.replacing(settings=Settings(indicator_capacity=9))
    assert overload(some, full, lambda: combinations) is None, "no more than before"
    told = overload(rulesets(), full, lambda: combinations)
    assert told is not None
    assert "would have 10 indicators to carry (5 written by hand, 5 from feeds), and may have 9" in told
    assert overload(rulesets(), full, lambda: [("whole-fleet",)]) is None


def test_what_feeds_bring_is_put_in_and_taken_out_again():
    inline = [{"host": "a.example", "action": "block"}]
    estate = rulesets(("hand", inline, None), ("fed", inline, "watch"), ("other", inline, "nobody"))
    rules = (Rule(host="b.example", action="block"), Rule(sha256="ab" * 32, action="block"))
    contents = {"watch": by_kind(rules)}
    after = filled(estate, contents)
    assert [[str(rule.selector) for rule in ruleset.rules] for ruleset in after.rulesets] == [
        ["host a.example"],
        ["host b.example"],
        ["host a.example"],
    ]
    assert filled(after, contents).rulesets[1] is after.rulesets[1]
    assert [len(ruleset.rules) for ruleset in emptied(after, contents).rulesets] == [1, 0, 1]
    assert emptied(after, {}) is after
