"""Probe sets that Portero draws up: they hold where their ruleset is assigned alone, by the slow reference."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest
from ways import assignment, put

from made_estates import BASE, INDEX, Maker
from portero.core.insight.drawing_up import of_assignment, of_ruleset
from portero.core.insight.effects.subjects import KnownSubjects
from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.estate import Estate
from reference import World
from thorough import times

MACHINE = {"hostname": "any", "layers": {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}}


def known(estate: Estate) -> KnownSubjects:
    return KnownSubjects.of((estate,), list, {})


@pytest.mark.parametrize("seed", range(times(60, 600)))
def test_what_is_drawn_up_of_a_ruleset_holds_where_it_is_assigned_alone(seed):
    document = Maker(seed, BASE).estate()
    estate = Estate.model_validate(document)
    for written in document["rulesets"]:
        ruleset = estate.ruleset_by_key[written["key"]]
        if ruleset.feed:
            continue
        probes = of_ruleset(estate, ruleset, known(estate), MemoryIndex(dict(INDEX)), BASE)
        alone = {**document, "groups": [], "precedence": [], "rulesets": [written]}
        alone["assignments"] = [{"key": "alone", "ruleset": written["key"], "to": ["whole-fleet"]}]
        slow = World(alone, {"portero_facts": 1, "devices": [MACHINE]}, INDEX)
        for probe in probes:
            attempt = {"device": "any", "at": BASE.isoformat()}
            if probe.start is not None:
                attempt["start"] = probe.start.model_dump(exclude_none=True)
                verdict = slow.start(attempt, MACHINE)["verdict"]
            else:
                verdict = slow.visit({**attempt, "url": probe.visit}, MACHINE)["verdict"]
            assert verdict == probe.expect, (written, probe)
            assert (probe.ruleset == ruleset.key) is (probe.expect != "allow")


def drawn(estate: dict, **more) -> list:
    made = Estate.model_validate(estate)
    return of_ruleset(made, made.rulesets[0], known(made), MemoryIndex(dict(INDEX)), BASE)


def test_each_selector_has_a_probe_and_one_beside_it_that_passes():
    probes = drawn(
        put("indicator", {"host": "reel.example", "action": "block"}, {"url": "https://a.example/x", "action": "warn"})
    )
    assert [(one.visit, one.expect.value) for one in probes] == [
        ("http://reel.example/", "block"),
        ("http://beside-reel.example/", "allow"),
        ("http://a.example/x", "warn"),
        ("http://a.example/", "allow"),
    ]
    category = drawn(put("category", {"category": "games", "action": "block"}))
    assert [one.expect.value for one in category] == ["block", "allow"]
    assert category[0].visit == "http://games.category.test/"
    sites = drawn(put("site", {"pattern": "*", "action": "block"}, {"pattern": "tickets.example", "action": "allow"}))
    assert {(one.visit, one.expect.value) for one in sites} == {
        ("http://any-other-site.test/", "block"),
        ("http://tickets.example/", "allow"),
    }
    starts = drawn(put("startup", {"sha256": "a" * 64, "action": "block"}))
    assert [(one.start.sha256[0], one.expect.value) for one in starts] == [("a", "block"), ("0", "allow")]


def test_probes_of_an_assignment_are_for_whom_and_when_it_holds():
    nights = {"key": "nights", "zone": "UTC", "windows": [{"days": ["wed"], "from": "20:00", "to": "23:00"}]}
    estate = put("category", {"category": "games", "action": "block"}) | {
        "schedules": [nights],
        "assignments": [assignment("stops", people={"users": ["clerk-2"]}, schedule="nights", place="off-site")],
    }
    made = Estate.model_validate(estate)
    now = datetime(2026, 12, 2, 10, tzinfo=UTC)
    probes = of_assignment(made, made.assignments[0], known(made), MemoryIndex({}), now)
    assert {(one.user, one.place, one.at) for one in probes} == {
        ("clerk-2", "off-site", datetime(2026, 12, 2, 20, tzinfo=UTC))
    }


def test_of_a_long_ruleset_a_share_of_the_rules_is_taken():
    rules = [{"host": f"h{number}.example", "action": "block"} for number in range(2_000)]
    probes = drawn(put("indicator", *rules))
    assert 400 < len(probes) <= 500
