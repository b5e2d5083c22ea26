"""The same rules in a general-purpose policy engine (Cedar), the answers checked to be the same.

Only what Cedar can say by itself is compared: blocks of categories on groups, where any block wins.
"""

from __future__ import annotations

import json
import random

import cedarpy

from bench.estates import CATEGORIES, make_index, make_situations, make_traffic
from bench.measuring import Row, each, in_turns, whole
from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import Group
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.urls import parse_visit
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.deciding import Visited, decide
from portero.core.resolving.explaining import categories_of
from portero.core.resolving.policy import Policy

RULES = 1_000
GROUPS = 200
OWN_GROUPS = 12


def _rules(seed: int = 6) -> list[tuple[str, str]]:
    """Which group may not visit which category."""
    rng = random.Random(seed)
    pairs = [(f"group-{group}", category) for group in range(GROUPS) for category in CATEGORIES]
    return rng.sample(pairs, RULES)


def _estate(rules: list[tuple[str, str]]) -> Estate:
    rulesets = [
        Ruleset.model_validate(
            {"key": f"no-{key}", "kind": "category", "rules": [{"category": key, "action": "block"}]}
        )
        for key in CATEGORIES
    ]
    assignments = [
        Assignment(key=f"assignment-{number}", ruleset=f"no-{category}", to=(group,))
        for number, (group, category) in enumerate(rules)
    ]
    groups = tuple(Group(key=f"group-{number}") for number in range(GROUPS))
    return Estate(groups=groups, rulesets=tuple(rulesets), assignments=tuple(assignments))


class Engine:
    """The rules as Cedar policies, parsed before, and the entities that requests name."""

    def __init__(
        self, rules: list[tuple[str, str]], groups: list[str], visits: list[tuple[str, tuple[str, ...]]]
    ) -> None:
        lines = ["permit(principal, action, resource);"]
        lines += [
            f'forbid(principal in Group::"{group}", action, resource in Category::"{category}");'
            for group, category in rules
        ]
        self._policies = cedarpy.PolicySet.from_str("\n".join(lines))
        parents = [{"type": "Group", "id": group} for group in groups]
        entities: list[dict[str, object]] = [{"uid": {"type": "Device", "id": "pc"}, "attrs": {}, "parents": parents}]
        for host, categories in dict(visits).items():
            own = [{"type": "Category", "id": category} for category in categories]
            entities.append({"uid": {"type": "Host", "id": host}, "attrs": {}, "parents": own})
        self._entities = cedarpy.Entities.from_json_str(json.dumps(entities))

    def decide(self, hosts: list[str]) -> list[bool]:
        """Whether each visit is blocked; as one batch."""
        requests = [
            {"principal": 'Device::"pc"', "action": 'Action::"visit"', "resource": f'Host::"{host}"', "context": {}}
            for host in hosts
        ]
        answers = cedarpy.is_authorized_batch(requests, self._policies, self._entities)
        return [answer.decision == cedarpy.Decision.Deny for answer in answers]


def cedar_rows(visits: int) -> list[Row]:
    """One decision by Cedar, with ours as the floor; AssertionError where an answer differs."""
    rules, index = _rules(), make_index(50_000)
    estate = _estate(rules)
    groups = [group.key for group in estate.groups][:: GROUPS // OWN_GROUPS]
    policy = Policy(compile_bundle(estate, (*groups, "whole-fleet")))
    frame = policy.frame(make_situations(1)[0])
    urls = make_traffic(index, visits)

    def ours(url: str) -> bool:
        return decide(frame, _visited(policy, index, url)) is not None

    pairs = [(visit.visit.host, tuple(visit.categories)) for visit in (_visited(policy, index, url) for url in urls)]
    engine = Engine(rules, groups, pairs)
    hosts = [host for host, _ in pairs]
    assert engine.decide(hosts) == [ours(url) for url in urls], "Cedar and Portero differ"
    few = hosts[: max(50, visits // 20)]
    mine, theirs = in_turns(3, each(ours, urls), whole(lambda: engine.decide(few), len(few)))
    return [Row("Cedar on the same 1,000 rules (floor: one decision here)", theirs, mine.median)]


def _visited(policy: Policy, index: MemoryIndex, url: str) -> Visited:
    visit = parse_visit(url)
    return Visited(visit, categories_of(policy, index, visit.host).categories)
