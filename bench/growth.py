"""All findings as a fleet and its policy grow: n times as much takes n times as long at the most."""

from __future__ import annotations

import random
from dataclasses import replace
from datetime import UTC, datetime
from typing import NamedTuple

from bench.measuring import Measurement, Row, in_turns, whole
from portero.core.insight.effects.matcher import Matcher
from portero.core.insight.effects.outcomes import Outcomes
from portero.core.insight.effects.world import World
from portero.core.insight.findings import find_all
from portero.core.matching.categories import EMPTY_INDEX
from portero.core.matching.members import Member, facts_from
from portero.core.nouns.device import DocumentDevice
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import WHOLE_FLEET
from portero.core.nouns.web_taxonomy import TAXONOMY

NOW = datetime(2026, 12, 1, 10, tzinfo=UTC)


class Size(NamedTuple):
    """How much there is of everything."""

    machines: int = 1_000
    groups: int = 40
    assignments: int = 60
    people: int = 20
    rules: int = 500


def growth_rows(rounds: int, people: int) -> list[Row]:
    """Of machines, groups (and with them classes), assignments, people, rules; and with people as many as they come."""
    base = Size()
    rows = []
    for what in ("machines", "groups", "assignments", "people", "rules"):
        sizes = [base._replace(**{what: getattr(base, what) * times}) for times in (1, 4, 16)]
        small, *grown = in_turns(rounds, *(_findings(size) for size in sizes))
        for times, size, taken in zip((4, 16), sizes[1:], grown, strict=True):
            rows.append(Row(f"findings, {getattr(size, what):,} {what}", taken, small.median, goal=times))
    many = Size(machines=2_000, groups=300, assignments=100, people=people)
    (taken,) = in_turns(1, _findings(many))
    rows.append(Row(f"findings, {people:,} people each with rules of their own, 300 groups", taken, most_ms=20_000.0))
    return rows


def _findings(size: Size) -> Measurement:
    estate, world = _made(size)
    return whole(lambda: find_all(estate, replace(world, outcomes=Outcomes())), 1)


def _made(size: Size) -> tuple[Estate, World]:
    rng = random.Random(6)
    groups = [f"group-{number}" for number in range(size.groups)]
    users = [f"cadet-{number}" for number in range(size.people)]
    categories = list(TAXONOMY.categories)[:20]
    listed = [{"host": f"host{n}.example", "action": rng.choice(("block", "warn"))} for n in range(size.rules)]
    rulesets = [
        {
            "key": f"rules-{number}",
            "kind": "category",
            "rules": [
                {"category": key, "action": rng.choice(("block", "warn", "allow"))} for key in rng.sample(categories, 6)
            ],
        }
        for number in range(20)
    ]
    rulesets.append({"key": "listed", "kind": "indicator", "rules": listed})
    put = [
        {"key": f"put-{number}", "ruleset": f"rules-{number % 20}", "to": [rng.choice(groups)]}
        for number in range(size.assignments)
    ]
    put += [
        {
            "key": f"for-{user}",
            "ruleset": f"rules-{rng.randrange(20)}",
            "to": [rng.choice(groups)],
            "people": {"users": [user]},
            "schedule": f"hours-{rng.randrange(4)}",
        }
        for user in users
    ]
    put += [{"key": f"listed-{number}", "ruleset": "listed", "to": [groups[number]]} for number in range(2)]
    put.append({"key": "for-all", "ruleset": "rules-0", "to": [WHOLE_FLEET]})
    hours = [
        {
            "key": f"hours-{number}",
            "zone": "Europe/Berlin",
            "windows": [{"days": ["mon", "thu"], "from": f"{8 + number:02d}:00", "to": f"{10 + number:02d}:00"}],
        }
        for number in range(4)
    ]
    estate = Estate.model_validate(
        {
            "portero": 1,
            "groups": [{"key": key} for key in groups],
            "rulesets": rulesets,
            "assignments": put,
            "schedules": hours,
        }
    )
    return estate, _world(estate, groups, users, size.machines)


def _world(estate: Estate, groups: list[str], users: list[str], machines: int) -> World:
    """Each machine in four groups: as many combinations as there are groups."""
    rng = random.Random(7)
    order = {key: place for place, key in enumerate(estate.group_order)}
    combinations = [(*sorted(rng.sample(groups, 4), key=order.__getitem__), WHOLE_FLEET) for _ in range(len(groups))]
    names = [f"pc-{number}" for number in range(machines)]
    members = [Member(name, facts_from(DocumentDevice.model_validate({"hostname": name}))) for name in names]
    own = {member.id: combinations[place % len(combinations)] for place, member in enumerate(members)}
    return World(
        members=members,
        groups=own.__getitem__,
        directory=Directory.model_validate({"users": users}),
        programs=list,
        catalogue={},
        now=NOW,
        matcher=lambda one: Matcher(one, EMPTY_INDEX, {}),
    )
