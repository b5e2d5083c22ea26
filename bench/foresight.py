"""Previews, findings and overlaps of a whole fleet under a full policy, beside one pass over its classes."""

from __future__ import annotations

from collections import Counter
from itertools import count as count_from

from bench.estates import make_estate
from bench.fleet import stored_fleet
from bench.measuring import Row, in_turns, whole
from portero.core.insight.overlaps import overlap
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import WHOLE_FLEET, Group
from portero.core.nouns.ruleset import Ruleset
from portero.core.resolving.bundles import compile_bundle
from portero.service.keepers import Keepers
from portero.service.state import Snapshot


def foresight_rows(count: int, indicators: int, rounds: int) -> list[Row]:
    """What a preview costs: of one rule for everybody, of a long list for everybody, of a group; and findings."""
    with stored_fleet(count) as keepers:
        policy = make_estate(200, 1000, indicators)
        listed = next(ruleset for ruleset in policy.rulesets if ruleset.kind == "indicator")
        everybody = Assignment.model_validate({"key": "fleet", "ruleset": "rules-0", "to": [WHOLE_FLEET]})
        keepers.estate.change(
            lambda snapshot: snapshot.estate.replacing(
                schedules=policy.schedules,
                rulesets=policy.rulesets,
                assignments=(*policy.assignments, everybody),
            ),
            by="bench",
        )
        return _rows(keepers, listed, count, rounds)


def _rows(keepers: Keepers, listed: Ruleset, count: int, rounds: int) -> list[Row]:
    def one_rule(snapshot: Snapshot) -> Estate:
        rules = [{"category": "games", "action": "block"}, {"category": "music", "action": "warn"}]
        new = Ruleset.model_validate({"key": "rules-0", "kind": "category", "rules": rules})
        rulesets = (new if ruleset.key == "rules-0" else ruleset for ruleset in snapshot.estate.rulesets)
        return snapshot.estate.replacing(rulesets=tuple(rulesets))

    def long_list(snapshot: Snapshot) -> Estate:
        new = Assignment.model_validate({"key": "listed", "ruleset": listed.key, "to": [WHOLE_FLEET]})
        return snapshot.estate.replacing(assignments=(*snapshot.estate.assignments, new))

    def one_group(snapshot: Snapshot) -> Estate:
        edited = Group(key="group-7", members=snapshot.estate.groups[8].members)
        groups = (edited if group.key == "group-7" else group for group in snapshot.estate.groups)
        return snapshot.estate.replacing(groups=tuple(groups))

    fleet = keepers.fleet.members
    classes = Counter(fleet.groups_of(member.id) for member in fleet)

    def one_pass() -> int:
        estate = keepers.estate.snapshot.estate
        return sum(len(compile_bundle(estate, groups).assignments) for groups in classes)

    def overlapping() -> object:
        world = keepers.foresight.world(10.0)
        members = [member for member in world.members if {"group-7", "group-9"} <= set(world.groups(member.id))]
        return overlap(keepers.estate.snapshot.estate, world, ["group-7", "group-9"], members, [])

    numbers = count_from(1_000_000)

    def findings() -> object:
        # of another revision each time: nothing that was found is there yet
        return keepers.foresight.findings(keepers.estate.snapshot.estate, next(numbers))

    calls = [
        ("preview of two rules for everybody", lambda: keepers.estate.preview(one_rule), 6000.0),
        (
            f"preview of {len(listed.rules):,} indicators for everybody",
            lambda: keepers.estate.preview(long_list),
            6000.0,
        ),
        ("preview of one group's rule", lambda: keepers.estate.preview(one_group), 6000.0),
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
