"""Previews, findings and overlaps of a whole fleet under a full policy, beside one pass over its classes."""

from __future__ import annotations

from collections import Counter

from bench.estates import make_estate
from bench.fleet import stored_fleet
from bench.measuring import Row, in_turns, whole
from portero.core.insight.overlapping import overlap
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import WHOLE_FLEET, Group
from portero.core.nouns.ruleset import Ruleset
from portero.core.resolving.bundles import compile_bundle
from portero.service.desk import Desk


def foresight_rows(count: int, indicators: int, rounds: int) -> list[Row]:
    """What a preview costs: of one rule for everybody, of a long list for everybody, of a group; and findings."""
    with stored_fleet(count) as desk:
        policy = make_estate(200, 1000, indicators)
        listed = next(one for one in policy.rulesets if one.kind == "indicator")
        everybody = Assignment.model_validate({"key": "fleet", "ruleset": "rules-0", "to": [WHOLE_FLEET]})
        desk.change(
            lambda estate, _: estate.replacing(
                schedules=policy.schedules,
                rulesets=policy.rulesets,
                assignments=(*policy.assignments, everybody),
            ),
            noun="ruleset",
            by="bench",
        )
        return _rows(desk, listed, count, rounds)


def _rows(desk: Desk, listed: Ruleset, count: int, rounds: int) -> list[Row]:
    def one_rule(estate: Estate, _versions: object) -> Estate:
        rules = [{"category": "games", "action": "block"}, {"category": "music", "action": "warn"}]
        new = Ruleset.model_validate({"key": "rules-0", "kind": "category", "rules": rules})
        return estate.replacing(rulesets=tuple(new if one.key == "rules-0" else one for one in estate.rulesets))

    def long_list(estate: Estate, _versions: object) -> Estate:
        new = Assignment.model_validate({"key": "listed", "ruleset": listed.key, "to": [WHOLE_FLEET]})
        return estate.replacing(assignments=(*estate.assignments, new))

    def one_group(estate: Estate, _versions: object) -> Estate:
        edited = Group(key="group-7", members=estate.groups[8].members)
        return estate.replacing(groups=tuple(edited if one.key == "group-7" else one for one in estate.groups))

    fleet = desk.roster.fleet
    classes = Counter(fleet.groups_of(member.id) for member in fleet)

    def one_pass() -> int:
        estate = desk.snapshot.estate
        return sum(len(compile_bundle(estate, groups).assignments) for groups in classes)

    def overlapping() -> object:
        world = desk.foresight.world(desk.directory, 10.0)
        members = [one for one in world.members if {"group-7", "group-9"} <= set(world.groups(one.id))]
        return overlap(desk.snapshot.estate, world, ["group-7", "group-9"], members, [])

    def findings() -> object:
        estate, revision = desk.snapshot
        desk.foresight.forget()
        return desk.foresight.findings(estate, revision, desk.directory)

    calls = [
        ("preview of two rules for everybody", lambda: desk.preview(one_rule, noun="ruleset"), 6000.0),
        (
            f"preview of {len(listed.rules):,} indicators for everybody",
            lambda: desk.preview(long_list, noun="assignment"),
            6000.0,
        ),
        ("preview of one group's rule", lambda: desk.preview(one_group, noun="group"), 6000.0),
        ("what two groups come to", overlapping, 1500.0),
        ("all findings", findings, 10000.0),
    ]
    rows = []
    for what, call, most in calls:
        told = call()
        complete = getattr(told, "complete", True)
        measured, floor = in_turns(rounds, whole(call, 1), whole(one_pass, 1))
        note = "" if complete else ", cut off"
        rows.append(Row(f"{count:,} machines: {what}{note}", measured, floor.median, most_ms=most))
    return rows
