"""The compiled resolver against the slow reference, on generated estates with every kind of selector.

`PORTERO_ATTEMPTS=1000000 pytest tests/core/test_differential.py` tries many more than the test run does.
"""

from __future__ import annotations

import os
from collections import Counter
from datetime import UTC, datetime

import pytest

from made_estates import BASE, INDEX, Maker
from portero.core.insight.offline import OfflineEstate
from portero.core.matching.categories import MemoryIndex
from portero.core.matching.searches import searched
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import Estate, FactsDocument
from portero.core.nouns.urls import address_of, parse_visit
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.deciding import Visited, decide, weigh
from portero.core.resolving.policy import Policy
from portero.core.resolving.situations import Situation
from reference import World
from thorough import times

ATTEMPTS = int(os.environ.get("PORTERO_ATTEMPTS", times(12_000, 24_000)))
PER_ESTATE = 60
# an ordinary week, and the weeks in which Europe's and New Zealand's clocks change
WEEKS = (BASE, datetime(2026, 10, 24, tzinfo=UTC), datetime(2027, 3, 27, tzinfo=UTC), datetime(2026, 9, 26, tzinfo=UTC))


def offline(estate: dict, facts: dict, index=INDEX) -> OfflineEstate:
    made = Estate.model_validate(estate)
    assert not list(made.faults())
    return OfflineEstate(made, FactsDocument.model_validate(facts), MemoryIndex(dict(index)), BASE)


def said(layer) -> dict:
    winner = layer.winner
    return {
        "verdict": layer.verdict.value,
        "winner": (winner.assignment, winner.rule) if winner else None,
        "target": winner.model_dump()["target"] if winner else None,
        "logged": {(one.assignment, one.rule) for one in layer.logged},
        "lost": {(one.assignment, one.rule) for one in layer.lost if one.rung != "replaced"},
    }


@pytest.mark.parametrize("part", range(4))
def test_the_compiled_resolver_says_what_the_reference_says(part):
    rungs: Counter[str] = Counter()
    for seed in range(part, ATTEMPTS // PER_ESTATE, 4):
        maker = Maker(seed, WEEKS[part])
        estate, facts = maker.estate(), maker.facts()
        fast, slow = offline(estate, facts), World(estate, facts, INDEX)
        devices = {device["hostname"]: device for device in facts["devices"]}
        for _ in range(PER_ESTATE):
            attempt = maker.attempt()
            found = fast.explain(Attempt.model_validate(attempt))
            layer = found.intended.layers[-1]
            judge = slow.start if "start" in attempt else slow.visit
            assert said(layer) == judge(attempt, devices[attempt["device"]]), (seed, attempt)
            rungs.update(one.rung.value for one in layer.lost)
    expected = {
        "mandatory",
        "selector",
        "people",
        "target",
        "origin",
        "action",
        "identity",
        "strictest",
        "lifted",
        "replaced",
    }
    assert {rung for rung in expected if rungs[rung] >= ATTEMPTS // 2400} == expected, rungs


def test_indicators_made_ready_for_all_policies_are_met_like_their_own(monkeypatch):
    """Many indicators of a ruleset are looked up in a table that policies share: here all of them are."""
    for seed in range(40):
        maker = Maker(seed)
        estate = Estate.model_validate(maker.estate())
        bundle = compile_bundle(estate, estate.group_order)
        own = Policy(bundle)
        with monkeypatch.context() as patch:
            patch.setattr("portero.core.resolving.policy.SHARED_FROM", 1)
            shared = Policy(bundle)
        for _ in range(40):
            attempt = maker.attempt()
            if "url" not in attempt:
                continue
            visit = parse_visit(attempt["url"])
            address = address_of(visit.host)
            for page in (True, False):
                met = [
                    sorted(
                        (one.place, one.action, one.narrowness, one.broad, one.until)
                        for one in policy.indicators.met_by(visit, address, page)
                    )
                    for policy in (own, shared)
                ]
                assert met[0] == met[1], attempt["url"]
            assert own.indicators.looks_at_pages(visit.host) == shared.indicators.looks_at_pages(visit.host)
            assert own.indicators.is_lonely(visit.host) == shared.indicators.is_lonely(visit.host)


def test_the_bare_decision_names_whom_the_whole_weighing_names():
    for seed in range(60):
        maker = Maker(seed)
        estate = Estate.model_validate(maker.estate())
        policy = Policy(compile_bundle(estate, estate.group_order))
        for _ in range(40):
            attempt = maker.attempt()
            if "url" not in attempt:
                continue
            visit = parse_visit(attempt["url"])
            found = searched(visit, policy.search_pages)
            visited = Visited(visit, INDEX.get(visit.host, ("news", "games")), None, found, attempt.get("media_type"))
            frame = policy.frame(Situation(datetime.fromisoformat(attempt["at"]), user=attempt.get("user")))
            for seen in (visited, visited.by_host()):
                assert decide(frame, seen) is weigh(frame, seen).winner
