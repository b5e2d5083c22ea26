"""The calls that the console's pages make first, on a great fleet: how much they carry, and how long they take."""

from __future__ import annotations

from bench.estates import make_estate
from bench.fleet import stored_fleet
from bench.measuring import Figure, Row, each, in_turns
from bench.serving import served_here
from portero.core.nouns.estate import Estate
from portero.service.state import Snapshot

FIRST = "devices?limit=50"
CALLS = (
    *("worklist", "rollout", "readiness", "readiness/units", "findings?accepted=false", "findings?limit=1", "board"),
    *("assignments", "groups", "rulesets", "revisions", "indicators", "indicators/capacity", "indicators/clean-up"),
    *("group-overlaps", "activity", "applications", "audit", "category-index", "settings", "epoch", "pushes"),
)
MOST_BYTES, MOST_RATIO, AIM = 100_000, 10.0, 5.0


def page_rows(machines: int, rounds: int) -> list[Row | Figure]:
    """Each call beside the first page of the list of machines."""
    made = make_estate(200, 1_000, 20_000)
    with stored_fleet(machines) as keepers:

        def edit(snapshot: Snapshot) -> Estate:
            parts = {"rulesets": made.rulesets, "assignments": made.assignments, "schedules": made.schedules}
            return snapshot.estate.replacing(**parts)

        keepers.estate.change(edit, by="bench")
        with served_here(keepers) as client:
            sizes = {call: len(client.get(call).raise_for_status().content) for call in CALLS}
            first, *others = in_turns(rounds, *(each(client.get, [call]) for call in (FIRST, *CALLS)))
    slowest, timing = max(zip(CALLS, others, strict=True), key=lambda pair: pair[1].median)
    largest = max(CALLS, key=lambda call: sizes[call])
    name = f"{machines:,} machines"
    return [
        Row(
            f"{name}: the slowest call, {slowest} (floor: first page of machines)",
            timing,
            first.median,
            MOST_RATIO,
            AIM,
        ),
        Figure(f"{name}: the largest answer, {largest}", sizes[largest] / 1000, "kB", at_most=MOST_BYTES / 1000),
    ]
