"""Previews, findings and overlaps of a whole fleet under a full policy, beside one pass over its classes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection
from dataclasses import replace
from itertools import count

from bench.estates import make_estate
from bench.fleet import stored_fleet
from bench.measuring import Row, in_turns, whole
from portero.core.insight.effects.outcomes import Outcomes
from portero.core.insight.findings import find_all
from portero.core.insight.findings.contested import contested
from portero.core.insight.overlaps import overlap
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import WHOLE_FLEET, Group
from portero.core.nouns.ruleset import Ruleset
from portero.core.resolving.compiling import compile_bundle
from portero.service.keepers import Keepers
from portero.service.state import Snapshot


def foresight_rows(machines: int, indicators: int, rounds: int) -> list[Row]:
    """What a preview costs: of one rule for everybody, of a long list for everybody, of a group; and findings."""
    with stored_fleet(machines) as keepers:
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
        return _rows(keepers, listed, machines, rounds)


def _rows(keepers: Keepers, listed: Ruleset, machines: int, rounds: int) -> list[Row]:
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
        world = keepers.foresight.world()
        members = [member for member in world.members if {"group-7", "group-9"} <= set(world.groups(member.id))]
        return overlap(keepers.estate.snapshot.estate, world, ["group-7", "group-9"], members, [])

    calls = [
        ("preview of two rules for everybody", lambda: keepers.estate.preview(one_rule)),
        (f"preview of {len(listed.rules):,} indicators for everybody", lambda: keepers.estate.preview(long_list)),
        ("preview of one group's rule", lambda: keepers.estate.preview(one_group)),
    ]
    what = f"{machines:,} machines"
    rows = _findings_rows(keepers, classes, what, rounds)
    for named, call in calls:
        measured, found = in_turns(rounds, whole(call, 1), whole(lambda: _all_findings(keepers), 1))
        rows.append(Row(f"{what}: {named} (floor: all findings)", measured, found.median, goal=1.5, aim=0.1))
    measured, floor = in_turns(rounds, whole(overlapping, 1), whole(one_pass, 1))
    rows.append(Row(f"{what}: what two groups come to", measured, floor.median, most_ms=1500.0))
    return rows


def _all_findings(keepers: Keepers) -> object:
    """All findings as they are found first, with nothing kept."""
    return find_all(keepers.estate.snapshot.estate, replace(keepers.foresight.world(), outcomes=Outcomes()))


def _findings_rows(keepers: Keepers, classes: Collection[tuple[str, ...]], what: str, rounds: int) -> list[Row]:
    """All findings, beside a look at every class for each subject that is contested; and those after one change."""
    estate, world = keepers.estate.snapshot.estate, keepers.foresight.world()
    field = contested(estate, world, world.matcher(estate))
    subjects = [subject for _, _, shape in field.shapes for subject in shape.subjects]
    known = dict.fromkeys(classes, 0)

    def loop() -> None:
        for _ in subjects:
            for groups in classes:
                known[groups]

    places = count(0)

    def one_changed() -> list[float]:
        # another assignment each time, from the same state: nothing that it touches is known
        find_all(estate, keepers.foresight.world())
        place = next(places) % len(estate.assignments)
        one = estate.assignments[place]
        changed = one.model_copy(update={"mandatory": not one.mandatory})
        assignments = (*estate.assignments[:place], changed, *estate.assignments[place + 1 :])
        return whole(lambda: find_all(estate.replacing(assignments=assignments), keepers.foresight.world()), 1)()

    all_cold, after_one, floor = in_turns(rounds, whole(lambda: _all_findings(keepers), 1), one_changed, whole(loop, 1))
    of = f"{len(subjects):,} subjects × {len(classes):,} classes"
    return [
        Row(f"{what}: all findings (floor: {of})", all_cold, floor.median, goal=140, aim=15),
        Row(f"{what}: findings after one change (floor: all)", after_one, all_cold.median, goal=0.5, aim=0.05),
    ]
