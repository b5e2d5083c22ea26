"""Batches: an attempt a line, bytes to bytes, beside decoding the lines and parsing their URLs alone."""

from __future__ import annotations

import json
import time
from datetime import UTC, datetime, timedelta
from itertools import accumulate
from random import Random

import ada_url

from bench.estates import make_traffic
from bench.measuring import Figure, Row, in_turns, whole
from portero.cli.batches import cores, judged
from portero.core.insight.check_lines import LineJudge
from portero.core.insight.offline import OfflineEstate
from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.estate import Estate, FactsDocument
from portero.core.nouns.group import BUILT_IN, Group

MACHINES, GROUPS_EACH = 4, 12
AT = datetime(2026, 12, 1, 8, tzinfo=UTC)


def batch_rows(index: MemoryIndex, estate: Estate, urls: int, number: int, rounds: int) -> list[Row | Figure]:
    """What a line costs in traffic as people make it (Zipf 1.1 over so many URLs), and how many are judged a second."""
    documents, lines = _documents(index, estate), _lines(make_traffic(index, urls), number)

    def decode() -> None:
        for line in lines:
            ada_url.normalize_url(json.loads(line)["url"])

    def judge(brief: bool) -> None:
        judging, pieces = LineJudge(documents, brief), list[bytes]()
        for place, line in enumerate(lines):
            pieces += judging.answer(line)
            if place % 500 == 499:
                b"".join(pieces)
                pieces.clear()

    decoded, briefly, at_length = in_turns(
        rounds, whole(decode, number), whole(lambda: judge(True), number), whole(lambda: judge(False), number)
    )
    began, size = time.perf_counter(), 0
    for some in judged(documents, iter(lines), cores(), brief=True):
        size += len(some.answers)
    a_second = number / (time.perf_counter() - began)
    what = f"batch: {number:,} lines, {urls:,} URLs"
    return [
        Row(
            f"{what}, in brief (floor: decode and parse)",
            briefly,
            decoded.median,
            goal=1.7 if number >= 1_000_000 else 4,
            aim=1.3,
        ),
        Row(f"{what}, whole answers", at_length, decoded.median, goal=8),
        Figure(f"batch: lines a second in brief, by {cores()} processes", a_second, "a second"),
        Figure("batch: an answer in brief", size / number, "bytes"),
    ]


def _documents(index: MemoryIndex, estate: Estate) -> OfflineEstate:
    """The estate over some machines, each in so many groups as a well-grouped machine is."""
    own = [key for key in estate.group_order if key not in BUILT_IN]
    step = len(own) // GROUPS_EACH
    names = [f"pc-{number}" for number in range(MACHINES)]
    groups = (
        Group.model_validate({"key": key, "pins": {"in": [one for at, one in enumerate(names) if place % step == at]}})
        for place, key in enumerate(own)
    )
    devices = [{"hostname": name, "layers": {"filter": "enforcing"}} for name in names]
    facts = FactsDocument.model_validate({"portero_facts": 1, "devices": devices})
    return OfflineEstate(estate.replacing(groups=tuple(groups)), facts, index, AT)


def _lines(urls: list[str], number: int) -> list[bytes]:
    rng = Random(4)
    weights = list(accumulate(1 / place**1.1 for place in range(1, len(urls) + 1)))
    visited = rng.choices(urls, cum_weights=weights, k=number)
    return [
        json.dumps(
            {
                "id": place,
                "device": f"pc-{rng.randrange(MACHINES)}",
                "user": "cadet-1",
                "url": url,
                "at": (AT + timedelta(seconds=place % 36_000)).isoformat(),
            }
        ).encode()
        for place, url in enumerate(visited)
    ]
