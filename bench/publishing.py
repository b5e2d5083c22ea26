"""From a change to what machines should have: on a store with so many classes, all under many indicators."""

from __future__ import annotations

import random
import sqlite3
import statistics
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from itertools import count
from pathlib import Path

from bench.estates import indicator_rulesets, make_estate
from bench.fleet import stored_fleet
from bench.measuring import Figure, Row, in_turns, whole
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import Group
from portero.core.nouns.membership import MembershipRule, read_condition
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset
from portero.core.resolving.compiling import compile_bundle
from portero.formats.bundles import pack_bundle
from portero.service import estate as estate_keeper
from portero.service.keepers import Keepers, open_keepers
from portero.service.state import Snapshot
from portero.store import classes
from portero.store.plans import Plan, write_plan

SAMPLE = 6
"""So many classes are packed whole, and stand for all of them."""


@contextmanager
def _with_classes(estate: Estate, number: int) -> Iterator[Keepers]:
    """The keepers of a store with so many classes, each in ten of the groups."""
    rng, keys = random.Random(4), [group.key for group in estate.groups]
    with tempfile.TemporaryDirectory() as temporary:
        keepers = open_keepers(Path(temporary))
        keepers.estate.change(lambda _snapshot: estate, by="bench")
        wanted: set[tuple[str, ...]] = set()
        while len(wanted) < number:
            chosen = set(rng.sample(keys, 10))
            wanted.add((*(key for key in estate.group_order if key in chosen), "whole-fleet"))
        with keepers.fleet.assessing() as assessment:
            for groups in wanted:
                assessment.class_of(groups)
        try:
            yield keepers
        finally:
            keepers.close()


def _under_one_list(estate: Estate, indicators: int) -> Estate:
    """With so many indicators for everybody, all in one ruleset."""
    rules = [rule for listed in indicator_rulesets(indicators, random.Random(9)) for rule in listed.rules]
    ruleset = Ruleset(key="listed", kind="indicator", rules=tuple(rules))
    assigned = Assignment(key="listed", ruleset="listed", to=("whole-fleet",))
    return estate.replacing(rulesets=(*estate.rulesets, ruleset), assignments=(*estate.assignments, assigned))


_numbers = count()


def _one_more(keepers: Keepers) -> Callable[[], object]:
    """One indicator more, for everybody."""

    def edit(estate: Estate) -> Estate:
        *others, listed = estate.rulesets
        rule = Rule.model_validate({"host": f"new-{next(_numbers)}.example", "action": "block"})
        return estate.replacing(rulesets=(*others, listed.model_copy(update={"rules": (*listed.rules, rule)})))

    return lambda: keepers.estate.change(lambda snapshot: edit(snapshot.estate), by="bench")


def _to_one_group(keepers: Keepers) -> tuple[int, int]:
    """The place of an assignment to one group; half of such assignments are to groups of more classes, half to groups
    of fewer. And how many classes it is in.
    """
    with keepers.store.reading() as connection:
        of_group = Counter(key for one in classes.list_classes(connection) for key in one.groups)
    assignments = keepers.estate.snapshot.estate.assignments
    sizes = sorted(
        (of_group[one.groups[0]], place)
        for place, one in enumerate(assignments)
        if len(one.groups) == 1 and one.ruleset != "listed"
    )
    number, place = sizes[len(sizes) // 2]
    return place, number


def _one_assignment(keepers: Keepers, place: int) -> Callable[[], object]:
    """One assignment is another."""

    def edit(estate: Estate) -> Estate:
        listed = list(estate.assignments)
        listed[place] = listed[place].model_copy(update={"mandatory": not listed[place].mandatory})
        return estate.replacing(assignments=tuple(listed))

    return lambda: keepers.estate.change(lambda snapshot: edit(snapshot.estate), by="bench")


def _all_documents(keepers: Keepers) -> Callable[[], object]:
    """Something that stands in every document is another."""

    def edit(estate: Estate) -> Estate:
        pages = () if estate.settings.gateway_networks else ("192.0.2.0/24",)
        return estate.replacing(settings=estate.settings.model_copy(update={"gateway_networks": pages}))

    return lambda: keepers.estate.change(lambda snapshot: edit(snapshot.estate), by="bench")


def _kept_bytes(connection: sqlite3.Connection) -> int:
    parts = "SELECT coalesce(sum(length(packed)), 0) FROM part"
    documents = "SELECT coalesce(sum(length(packed)), 0) FROM bundle"
    return int(connection.execute(f"SELECT ({parts}) + ({documents})").fetchone()[0])


def publishing_rows(sizes: tuple[int, int], indicators: int, rounds: int) -> list[Row | Figure]:
    """One indicator for everybody, one assignment to one group, all documents: each beside what it should be near."""
    estate = _under_one_list(make_estate(200, 1_000), indicators)
    few, many = sizes
    with _with_classes(estate, few) as keepers, _with_classes(estate, many) as larger:
        sample = [tuple(group.key for group in estate.groups[n :: len(estate.groups) // 10]) for n in range(SAMPLE)]

        def pack() -> None:
            for groups in sample:
                pack_bundle(compile_bundle(estate, (*groups, "whole-fleet")))

        before = 0
        with keepers.store.reading() as connection:
            before = _kept_bytes(connection)
        one, packing, all_of_more = in_turns(
            rounds, whole(_one_more(keepers), 1), whole(pack, SAMPLE), whole(_one_more(larger), 1)
        )
        with keepers.store.reading() as connection:
            stored = (_kept_bytes(connection) - before) / rounds
        place, touched = _to_one_group(keepers)
        single, every = in_turns(rounds, whole(_one_assignment(keepers, place), 1), whole(_all_documents(keepers), 1))
    # few indicators and classes leave more of what a change costs in any case
    name, goal = f"{indicators:,} indicators", 0.02 if indicators >= 20_000 else 0.15
    return [
        Row(
            f"{name}, {few:,} classes: one more for everybody",
            one,
            packing.median * few,
            goal=goal,
            aim=0.01,
        ),
        Row(f"{name}, {many:,} classes: the same", all_of_more, one.median * many / few, goal=1.2),
        Figure(f"{name}, {few:,} classes: what one more adds to the store", stored / 1000, "kB", at_most=5 * few + 400),
        Row(
            f"{few:,} classes: one assignment to a group of {touched} (floor: their share of all documents)",
            single,
            every.median * touched / few,
            goal=4 if few >= 300 else 8,
            aim=1,
        ),
        Figure(f"{few:,} classes: the same, of all documents", 100 * single.median / every.median, "%"),
    ]


class _Writing:
    """How long writing takes of what changes take: the same rows, in the same transactions."""

    def __init__(self) -> None:
        self.seconds: list[float] = []

    def __call__(self, connection: sqlite3.Connection, plan: Plan) -> None:
        began = time.perf_counter()
        write_plan(connection, plan)
        self.seconds.append(time.perf_counter() - began)


def group_rows(machines: int, indicators: int, rounds: int) -> list[Row | Figure]:
    """One group's rule changed on a great fleet under many indicators, beside writing its rows alone."""
    with stored_fleet(machines) as keepers:
        keepers.estate.change(lambda snapshot: _under_one_list(snapshot.estate, indicators), by="bench")

        def change() -> None:
            number = next(_numbers)
            rule = read_condition(f"hostname starts_with machine-0{number % 10}{number % 7}1")
            members = MembershipRule(all=(rule,))

            def edit(snapshot: Snapshot) -> Estate:
                groups = (
                    Group(key=one.key, members=members) if one.key == "group-7" else one
                    for one in snapshot.estate.groups
                )
                return snapshot.estate.replacing(groups=tuple(groups))

            keepers.estate.change(edit, by="bench")

        writing = _Writing()
        estate_keeper.write_plan, before = writing, estate_keeper.write_plan
        try:
            (changing,) = in_turns(rounds + 2, whole(change, 1))
        finally:
            estate_keeper.write_plan = before
    bare = statistics.median(writing.seconds)
    name = f"{machines:,} machines, {indicators:,} indicators: one group changed (floor: its rows)"
    return [Row(name, changing, bare, goal=15 if machines >= 100_000 else 30, aim=8, most_ms=400)]
