"""A predicted run over a great fleet, beside deciding once each sort of machines that may fare apart; and an observed
run, beside deciding once each attempt that machines tell of.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from contextlib import contextmanager
from unittest import mock

from bench.estates import CATEGORIES, make_estate
from bench.fleet import stored_fleet
from bench.measuring import Figure, Row, in_turns, whole
from portero.core.insight.predicting import numbered, predict
from portero.core.insight.whys import question
from portero.core.nouns.action import Verdict
from portero.core.nouns.estate import Estate
from portero.core.nouns.observation import ProbesSeen, Seen
from portero.core.nouns.probe_set import ProbeSet
from portero.core.nouns.run import NewRun
from portero.service.keepers import Keepers
from portero.service.state import Snapshot


def _probes(number: int, rng: random.Random) -> ProbeSet:
    """Visits to hosts of categories and to any other, over http and https, half of them expected to be stopped."""
    listed = []
    for place in range(number):
        host = f"{rng.choice(CATEGORIES)}.category.test" if place % 3 else f"host{place}.example"
        scheme = "https" if place % 2 else "http"
        listed.append({"visit": f"{scheme}://{host}/", "expect": "block" if place % 4 < 2 else "allow"})
    return ProbeSet.model_validate({"key": "many", "to": ["whole-fleet"], "probes": listed})


@contextmanager
def _governed(machines: int, asked: ProbeSet) -> Iterator[Keepers]:
    """A fleet under a thousand rules, with a probe set."""
    made = make_estate(200, 1_000)

    def edit(snapshot: Snapshot) -> Estate:
        parts = {"rulesets": made.rulesets, "assignments": made.assignments, "schedules": made.schedules}
        return snapshot.estate.replacing(**parts, probe_sets=(asked,))

    with stored_fleet(machines) as keepers:
        keepers.estate.change(edit, by="bench")
        yield keepers


def verifying_rows(machines: int, probes: int) -> list[Row | Figure]:
    """How long a run takes, and how often it decides, beside each probe once on each sort of machines."""
    asked = _probes(probes, random.Random(4))
    with _governed(machines, asked) as keepers:
        sorts = keepers.standings.alike(keepers.estate.snapshot.estate, asked.probes)
        tried = numbered([asked])

        def decide_each() -> None:
            for one in tried:
                for sort in sorts:
                    _ = sort.ask(one.probe.attempt(sort.devices[0].hostname), one.probe.expect).explanation

        def run() -> None:
            for _ in predict(tried, sorts):
                pass

        decide_each()
        deciding, running = in_turns(1, whole(decide_each, probes), whole(run, probes))
        with mock.patch.object(question, "explain", wraps=question.explain) as explained:
            run()
    what = f"{machines:,} machines of {len(sorts):,} sorts, {probes} probes"
    return [
        Row(f"a probe on {what} (floor: each sort decided once)", running, deciding.median, goal=4, aim=2),
        Figure(f"decisions of a run, {what}: of each", explained.call_count / (len(sorts) * probes), "", at_most=2),
    ]


def observed_rows(machines: int, probes: int) -> list[Row | Figure]:
    """How long the service takes for an observed run whose machines answer at once, beside deciding their attempts."""
    asked = _probes(probes, random.Random(4))
    with _governed(machines, asked) as keepers:
        devices = [member.id for member in keepers.fleet.members]
        seats = [(device, keepers.whys.asking(keepers.fleet.device(device))) for device in devices]

        def decide_each() -> dict[str, list[Verdict]]:
            return {
                device: [ask(probe.attempt(device), probe.expect).found for probe in asked.probes]
                for device, ask in seats
            }

        comes_to = decide_each()

        def run() -> None:
            begun = keepers.observing.start(NewRun(kind="observed", seconds=600), "bench")
            for device in devices:
                (order,) = keepers.observing.take(device)
                seen = tuple(
                    Seen(number=one.number, verdict=comes_to[device][one.number - 1], saw="page")
                    for one in order.probes
                )
                keepers.observing.answered(device, ProbesSeen(once=order.once, seen=seen))
            assert keepers.runs.get(begun.id).state == "done"

        number = machines * probes
        deciding, running = in_turns(1, whole(decide_each, number), whole(run, number))
    what = f"an attempt of an observed run, {machines:,} machines, {probes} probes"
    return [
        Row(f"{what} (floor: decided once)", running, deciding.median),
        Figure(f"such a run, {machines:,} machines: the service's part", running.median * number, "s"),
    ]
