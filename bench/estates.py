"""Seeded estates, indexes and traffic of a given size."""

from __future__ import annotations

import random
from datetime import UTC, datetime, timedelta

from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import Group
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.schedule import Schedule
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.resolving.situations import Situation

CATEGORIES = [key for key in TAXONOMY.categories if key != "uncategorised"]


def make_index(hosts: int, seed: int = 1) -> MemoryIndex:
    """A category index of that many made-up hosts."""
    rng = random.Random(seed)
    kinds = [(key,) for key in CATEGORIES] + [tuple(sorted(rng.sample(CATEGORIES, 2))) for _ in range(40)]
    return MemoryIndex({f"host{number:x}.site{number % 9973}.example": rng.choice(kinds) for number in range(hosts)})


PEOPLE = [f"person-{number}" for number in range(200)]
_HOURS = [{"days": ["mon", "tue", "wed", "thu", "fri"], "from": "07:30", "to": "18:00"}]
SCHEDULES = tuple(
    Schedule.model_validate({"key": f"hours-{number}", "zone": zone, "windows": _HOURS})
    for number, zone in enumerate(("device", "Europe/Copenhagen", "Atlantic/Faroe"))
)


def indicator_rulesets(number: int, rng: random.Random) -> list[Ruleset]:
    """That many indicators in ten rulesets: hosts, a tenth of them with a path, and some ranges of addresses."""
    made = []
    for part in range(10):
        rules: list[dict[str, object]] = []
        for one in range(part, number, 10):
            host = f"host{one * 37:x}.site{one * 37 % 9973}.example"
            named = {"url": f"https://{host}/item"} if one % 10 == part % 10 else {"host": host}
            rules.append({**named, "action": rng.choice(["block", "block", "warn", "allow"])})
        rules += [{"address": f"198.51.100.{16 * part}/28", "action": "block"}]
        made.append(Ruleset.model_validate({"key": f"indicators-{part}", "kind": "indicator", "rules": rules}))
    return made


def _conditions(rng: random.Random) -> dict[str, object]:
    """A third of the assignments hang on a schedule, on people or on a place."""
    chance = rng.random()
    if chance < 0.12:
        return {"schedule": rng.choice(SCHEDULES).key}
    if chance < 0.24:
        return {"people": {"users": rng.sample(PEOPLE, 10)}}
    return {"place": rng.choice(("on-site", "off-site"))} if chance < 0.32 else {}


def make_estate(groups: int, assignments: int, indicators: int = 0, seed: int = 2) -> Estate:
    """An estate of that many groups, assignments and indicators; a tenth of the assignments are mandatory."""
    rng = random.Random(seed)
    keys = [f"group-{number}" for number in range(groups)]
    rulesets = []
    for number in range(100):
        rules = [
            {"category": key, "action": rng.choice(["block", "warn", "allow", "log"])}
            for key in rng.sample(CATEGORIES, 8)
        ]
        rules += [{"family": rng.choice(list(TAXONOMY.by_family)), "action": rng.choice(["block", "warn"])}]
        rulesets.append(Ruleset.model_validate({"key": f"rules-{number}", "kind": "category", "rules": rules}))
    made = [
        Assignment.model_validate(
            {
                "key": f"assignment-{number}",
                "ruleset": rng.choice(rulesets).key,
                "to": rng.sample(keys, rng.choice((1, 1, 2, 3))),
                "mandatory": rng.random() < 0.1,
                **_conditions(rng),
            }
        )
        for number in range(assignments)
    ]
    if indicators:
        own = indicator_rulesets(indicators, rng)
        rulesets += own
        made += [
            Assignment(key=f"all-{indicator_ruleset.key}", ruleset=indicator_ruleset.key, to=("whole-fleet",))
            for indicator_ruleset in own
        ]
    return Estate(
        groups=tuple(Group(key=key) for key in keys),
        schedules=SCHEDULES,
        rulesets=tuple(rulesets),
        assignments=tuple(made),
    )


def make_situations(number: int, seed: int = 5) -> list[Situation]:
    """People at moments of one week, most of them without a place of their own."""
    rng, monday = random.Random(seed), datetime(2026, 11, 23, tzinfo=UTC)
    return [
        Situation(
            at=monday + timedelta(minutes=rng.randrange(7 * 24 * 60)),
            user=rng.choice(PEOPLE),
            place=rng.choice(("on-site", "off-site")),
            zone="Atlantic/Reykjavik",
        )
        for _ in range(number)
    ]


def make_traffic(index: MemoryIndex, visits: int, seed: int = 3) -> list[str]:
    """URLs: nine in ten to hosts of the index or below them, one in ten to hosts that nobody knows."""
    rng = random.Random(seed)
    known = len(index)
    urls = []
    for _ in range(visits):
        number = rng.randrange(known)
        host = f"host{number:x}.site{number % 9973}.example"
        if rng.random() < 0.3:
            host = "www." + host
        if rng.random() < 0.1:
            host = f"nobody{rng.randrange(10**6)}.knows.example"
        path = "/".join(rng.choice(("a", "list", "item", "picture")) for _ in range(rng.randrange(4)))
        urls.append(f"{rng.choice(('http', 'https'))}://{host}/{path}" + ("?page=2" if rng.random() < 0.2 else ""))
    return urls
