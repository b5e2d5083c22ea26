"""Site lists: what a browser does with 1,500 patterns, beside a walk over the host's suffixes and no more."""

from __future__ import annotations

import random
from collections import defaultdict

import ada_url

from bench.measuring import Figure, Row, each, in_turns
from portero.core.browsers.handing import Handed
from portero.core.browsers.needless import Listed
from portero.core.nouns.patterns import Pattern
from portero.core.nouns.urls import Visit, parse_visit

PATTERNS, VISITS = 1_500, 4_000
_GOAL = 2


def _list(rng: random.Random) -> list[Listed]:
    """Hosts, some with paths or a piece of a query, a fifth of them allowed, and everything else blocked."""
    made = {Pattern.of("*"): False}
    while len(made) < PATTERNS:
        host = f"{rng.choice(('www.', '', 'a.b.'))}site{rng.randrange(PATTERNS)}.example"
        tail = rng.choice(("", "", "", "/news", "/a/b", "/watch?v=1"))
        made[Pattern.of(host + tail)] = rng.random() < 0.2
    return [Listed(pattern, allow) for pattern, allow in made.items()]


def _visits(rng: random.Random) -> list[Visit]:
    paths = ("/", "/news/1", "/a/b", "/watch?v=1&x", "/other?q=v")
    hosts = (f"{rng.choice(('www.', '', 'x.'))}site{rng.randrange(2 * PATTERNS)}.example" for _ in range(VISITS))
    return [parse_visit(f"https://{host}{rng.choice(paths)}") for host in hosts]


def site_list_rows(rounds: int) -> list[Row | Figure]:
    """A prediction for each family, and handing the list over."""
    rng = random.Random(11)
    listed, visits = _list(rng), _visits(rng)
    by_host: dict[str, list[tuple[str, tuple[str, ...]]]] = defaultdict(list)
    for pattern, _, _ in listed:
        by_host[pattern.host].append((pattern.path, tuple(map(str, pattern.query))))

    def walk(visit: Visit) -> int:
        parts = ada_url.parse_url(visit.url, attributes=("pathname", "search"))
        path, query, host, met = parts["pathname"], parts["search"][1:].split("&"), visit.host, 0
        while True:
            for wanted, tokens in by_host.get(host, ()):
                met += path.startswith(wanted) and all(token in query for token in tokens)
            if not host:
                return met
            host = host.partition(".")[2]

    chromium, firefox = Handed(listed, "chromium"), Handed(listed, "firefox")
    floor, *predictions, handing = in_turns(
        rounds,
        each(walk, visits),
        each(lambda visit: next(chromium.matching(visit), None), visits),
        each(lambda visit: next(firefox.matching(visit), None), visits),
        each(lambda family: Handed(listed, family), ["chromium", "firefox"]),
    )
    of_chromium, of_firefox = predictions
    return [
        Row(f"site list of {PATTERNS:,}: a walk over the host's suffixes", floor),
        Row("what Chromium does with a visit", of_chromium, floor.median, _GOAL),
        Row("what Firefox does with a visit", of_firefox, floor.median, _GOAL),
        Figure("a site list handed over, once for all that have it", handing.median * 1e3, "ms"),
    ]
