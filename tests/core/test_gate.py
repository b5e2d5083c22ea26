"""The gate: what it finds is what deciding before and after finds, machine by machine; and only what matches counts."""

from __future__ import annotations

import random

import pytest

from made_estates import BASE, INDEX, Maker
from portero.core.insight.effects.world import World
from portero.core.insight.gate import failures, gated
from portero.core.insight.offline import OfflineEstate
from portero.core.matching.categories import MemoryIndex
from portero.core.matching.members import Member, facts_from
from portero.core.matching.membership import Membership
from portero.core.nouns.estate import Estate, FactsDocument
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.explaining import explain
from portero.core.resolving.policy import Policy
from thorough import times


def changed(estate: Estate, rng: random.Random) -> Estate:
    """An assignment less, or made mandatory, or a ruleset with a rule less."""
    what = rng.choice(("assignment", "mandatory", "rule"))
    if what == "rule":
        own = rng.choice([one for one in estate.rulesets if len(one.rules) > 1] or list(estate.rulesets))
        less = type(own).model_validate({**own.model_dump(exclude_none=True), "rules": own.rules[1:]})
        return estate.replacing(rulesets=tuple(less if one is own else one for one in estate.rulesets))
    place = rng.randrange(len(estate.assignments))
    listed = list(estate.assignments)
    if what == "assignment":
        del listed[place]
    else:
        listed[place] = listed[place].model_copy(update={"mandatory": not listed[place].mandatory})
    return estate.replacing(assignments=tuple(listed))


@pytest.mark.parametrize("seed", range(times(40, 400)))
def test_what_fails_is_what_fails_machine_by_machine(seed):
    maker, rng = Maker(seed, BASE), random.Random(seed)
    document = maker.estate()
    facts = FactsDocument.model_validate(maker.facts())
    groups = [one["key"] for one in document["groups"]]
    probes = []
    for _ in range(8):
        attempt = maker.attempt()
        tried = {"start": attempt["start"]} if "start" in attempt else {"visit": attempt["url"]}
        more = {name: attempt[name] for name in ("user", "at", "place") if name in attempt}
        to = rng.choice(["whole-fleet", *groups, {"device": facts.devices[0].hostname}])
        probes.append({"to": to, **tried, **more, "expect": rng.choice(("allow", "block"))})
    document |= {"probe_sets": [{"key": "must-hold", "probes": probes}]}
    document["settings"] = {**document.get("settings", {}), "gate": ["must-hold"]}
    before = Estate.model_validate(document)
    after = changed(before, rng)
    membership = Membership(before.groups, before.group_order)
    members = [Member(one.hostname, facts_from(one), one.labels) for one in facts.devices]
    held = {member.id: membership.groups_of(member, BASE) for member in members}
    world = World(
        members=members,
        groups=held.__getitem__,
        directory=facts.directory,
        programs=lambda: [one for device in facts.devices for one in device.applications],
        catalogue={},
        now=BASE,
        matcher=lambda _estate: pytest.fail("not asked for"),
    )
    index = MemoryIndex(dict(INDEX))
    found = {(one.set, one.number): one.devices for one in failures(before, after, {}, world, index)}
    expected: dict[tuple[str, int], int] = {}
    states = [OfflineEstate(estate, facts, index, BASE) for estate in (before, after)]
    for one in gated(after):
        for member in members:
            target = one.probe.to if isinstance(one.probe.to, str) else one.probe.to.device
            if target not in held[member.id] and target != member.id:
                continue
            was, then = (
                _meant(offline, estate, one.probe, member, held)
                for offline, estate in zip(states, (before, after), strict=True)
            )
            if was is one.probe.expect and then is not one.probe.expect:
                key = (one.set.key, one.number)
                expected[key] = expected.get(key, 0) + 1
    assert found == expected


def _meant(offline: OfflineEstate, estate: Estate, probe, member: Member, held):
    """What is meant on a machine of which nothing counts but its groups and its name."""
    question = offline.question(probe.attempt(member.id), probe.expect)
    bare = {"place": None, "zone": None, "last_start": None, "is_server": False, "browsers": (), "catalogue": {}}
    machine = question.case.machine._replace(**bare)
    policy = Policy(compile_bundle(estate, held[member.id], (member.id,)), member.id)
    case = question.case._replace(machine=machine._replace(applied=policy))
    attempt = case.attempt.model_copy(update={"place": probe.place})
    return explain(policy, case._replace(attempt=attempt)).intended.verdict
