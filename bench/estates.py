"""Seeded estates, indexes and traffic of a given size."""

from __future__ import annotations

import random

from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import Group
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.web_taxonomy import TAXONOMY

CATEGORIES = [key for key in TAXONOMY.categories if key != "uncategorised"]


def make_index(hosts: int, seed: int = 1) -> MemoryIndex:
    """A category index of that many made-up hosts."""
    rng = random.Random(seed)
    kinds = [(key,) for key in CATEGORIES] + [tuple(sorted(rng.sample(CATEGORIES, 2))) for _ in range(40)]
    return MemoryIndex({f"host{number:x}.site{number % 9973}.example": rng.choice(kinds) for number in range(hosts)})


def make_estate(groups: int, assignments: int, seed: int = 2) -> Estate:
    """An estate of that many groups and assignments; a tenth of the assignments are mandatory."""
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
    made = tuple(
        Assignment(
            key=f"assignment-{number}",
            ruleset=rng.choice(rulesets).key,
            to=tuple(rng.sample(keys, rng.choice((1, 1, 2, 3)))),
            mandatory=rng.random() < 0.1,
        )
        for number in range(assignments)
    )
    return Estate(groups=tuple(Group(key=key) for key in keys), rulesets=tuple(rulesets), assignments=made)


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


def skewed(urls: list[str], visits: int, seed: int = 4) -> list[str]:
    """Traffic as people make it: few hosts get most of the visits."""
    rng = random.Random(seed)
    return [urls[min(int(rng.paretovariate(0.9)) - 1, len(urls) - 1)] for _ in range(visits)]
