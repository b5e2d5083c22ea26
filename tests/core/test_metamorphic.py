"""What must hold of any estate, however it is turned: on generated estates and attempts."""

from __future__ import annotations

import copy

import pytest

from made_estates import BASE, INDEX, Maker
from portero.core.insight.offline import OfflineEstate
from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import Estate, FactsDocument
from thorough import times

ORDER = ["allow", "warn", "block"]
SEEDS = range(0, times(200, 400), 4)


def verdicts(estate: dict, facts: dict, attempts: list[dict]) -> list:
    """The intended verdict and winner of each attempt."""
    made = Estate.model_validate(estate)
    assert not list(made.faults())
    offline = OfflineEstate(made, FactsDocument.model_validate(facts), MemoryIndex(dict(INDEX)), BASE)
    return [offline.explain(Attempt.model_validate(attempt)).intended for attempt in attempts]


def words(estate: dict, facts: dict, attempts: list[dict]) -> list[str]:
    return [verdict.verdict.value for verdict in verdicts(estate, facts, attempts)]


@pytest.fixture(params=range(4))
def worlds(request):
    made = []
    for seed in SEEDS:
        maker = Maker(10_000 + seed + request.param)
        made.append((maker.rng, maker.estate(), maker.facts(), [maker.attempt() for _ in range(12)]))
    return made


def test_adding_an_ordinary_rule_never_undoes_a_mandatory_one(worlds):
    held = 0
    for _, estate, facts, attempts in worlds:
        only = copy.deepcopy(estate)
        only["assignments"] = [assignment for assignment in estate["assignments"] if assignment["mandatory"]]
        for alone, together in zip(verdicts(only, facts, attempts), verdicts(estate, facts, attempts), strict=True):
            winner = alone.layers[-1].winner
            if winner is None:
                continue
            held += 1
            if alone.verdict == "allow" and winner.selector.split()[0] in ("host", "url"):
                assert together.verdict == "allow", "a mandatory allow of a narrow indicator is the verdict"
            assert ORDER.index(together.verdict) >= ORDER.index(alone.verdict) or alone.verdict == "allow"
    assert held > 50


def test_a_feed_never_loosens(worlds):
    for _, estate, facts, attempts in worlds:
        without = copy.deepcopy(estate)
        feeds = {ruleset["key"] for ruleset in estate["rulesets"] if "feed" in ruleset}
        kept = [assignment for assignment in estate["assignments"] if assignment["ruleset"] not in feeds]
        # one that replaces weaker ones takes them away on purpose, whoever wrote it
        if any(assignment.get("replaces_weaker") for assignment in estate["assignments"]):
            continue
        without["assignments"] = kept
        for before, after in zip(words(without, facts, attempts), words(estate, facts, attempts), strict=True):
            assert ORDER.index(after) >= ORDER.index(before)


def test_what_is_past_its_end_changes_nothing(worlds):
    for rng, estate, facts, attempts in worlds:
        more = copy.deepcopy(estate)
        ended = "2020-01-01T00:00:00Z"
        ruleset = copy.deepcopy(rng.choice(estate["rulesets"]))
        over = {**ruleset, "key": "over", "rules": [{**rule, "valid_until": ended} for rule in ruleset["rules"]]}
        more["rulesets"] += [over, {**ruleset, "key": "again"}]
        broad = {"to": ["whole-fleet"], "replaces_weaker": True}
        more["assignments"] += [
            {"key": "over", "ruleset": "over", **broad},
            {"key": "ended", "ruleset": "again", "ends": ended, **broad},
        ]
        assert words(more, facts, attempts) == words(estate, facts, attempts)


def test_renaming_and_reordering_objects_never_changes_a_verdict(worlds):
    for rng, estate, facts, attempts in worlds:
        turned = copy.deepcopy(estate)
        names = {one["key"]: f"other-{number}" for number, one in enumerate(estate["rulesets"])}
        for ruleset in turned["rulesets"]:
            ruleset["key"] = names[ruleset["key"]]
            rng.shuffle(ruleset["rules"])
        for number, assignment in enumerate(turned["assignments"]):
            assignment |= {"key": f"renamed-{number}", "ruleset": names[assignment["ruleset"]]}
            rng.shuffle(assignment["to"])
        # groups that the precedence does not name stand in the document's order, so that one stays
        for part in (
            "rulesets",
            "assignments",
            "schedules",
            "services",
            "application_sets",
            "corrections",
            "application_corrections",
        ):
            rng.shuffle(turned[part])
        assert words(turned, facts, attempts) == words(estate, facts, attempts)


def test_splitting_a_ruleset_in_two_changes_no_verdict(worlds):
    for rng, estate, facts, attempts in worlds:
        # whether an assignment replaces weaker ones hangs on all of its rules together
        if any(assignment.get("replaces_weaker") for assignment in estate["assignments"]):
            continue
        split = copy.deepcopy(estate)
        chosen = rng.choice(split["rulesets"])
        cut = rng.randrange(len(chosen["rules"]) + 1)
        other = {**chosen, "key": "split", "rules": chosen["rules"][cut:]}
        chosen["rules"] = chosen["rules"][:cut]
        split["rulesets"].append(other)
        split["assignments"] += [
            {**assignment, "key": f"{assignment['key']}-split", "ruleset": "split"}
            for assignment in split["assignments"]
            if assignment["ruleset"] == chosen["key"]
        ]
        assert words(split, facts, attempts) == words(estate, facts, attempts)


def test_case_of_people_and_devices_says_nothing(worlds):
    for _, estate, facts, attempts in worlds:
        loud = [
            {
                **attempt,
                "device": attempt["device"].upper(),
                **({"user": attempt["user"].swapcase()} if "user" in attempt else {}),
            }
            for attempt in attempts
        ]
        assert words(estate, facts, loud) == words(estate, facts, attempts)
