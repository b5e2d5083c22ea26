"""Fleets of a given size: membership in memory, and lists, previews and changes on a store."""

from __future__ import annotations

import json
import random
import sqlite3
import tempfile
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from bench.measuring import Row, in_turns, whole
from portero.core.insight.group_previews import preview_group
from portero.core.matching.fleet import Fleet
from portero.core.matching.members import Member, MemberFacts, facts_from_json
from portero.core.matching.membership import Membership
from portero.core.matching.membership_conditions import Test, test_of
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import Group
from portero.core.nouns.membership import Condition, MembershipRule, read_condition
from portero.service import readiness
from portero.service.keepers import Keepers, open_keepers
from portero.service.state import Snapshot
from portero.store import device_lists
from portero.store.device_lists import DeviceFilter

NOW = datetime(2026, 11, 20, tzinfo=UTC)
UNITS = [f"north/{area}/{site}" for area in range(30) for site in range(10)]
KINDS = ("desktop", "laptop", "kiosk", "tablet")


def make_facts(number: int, rng: random.Random) -> dict[str, object]:
    """The facts of one machine. As in real fleets, much of what a machine is follows from where it stands."""
    place = rng.randrange(len(UNITS))
    kind = KINDS[min(int(rng.expovariate(1.2)), len(KINDS) - 1)]
    layers = {"filter": rng.choice(("enforcing",) * 18 + ("observing", "off"))}
    return {
        "hostname": f"machine-{number:06}",
        "kind": kind,
        "unit": UNITS[place],
        "os": {"family": "linux", "version": f"12.{place % 3 + (rng.random() < 0.1)}"},
        "addresses": [f"192.0.2.{place % 8 * 32 + rng.randrange(32)}"],
        "browsers": [{"name": "chromium", "version": f"{130 + place % 4}.0", "managed": rng.random() < 0.9}],
        "applications": [{"product": f"Program {n}", "version": f"{n}.1"} for n in range(KINDS.index(kind))],
        "layers": {**layers, "browser": "enforcing", "startup": "enforcing"},
        "zone": ("Europe/Berlin", "Atlantic/Faroe")[place % 2],
    }


def make_groups(count: int, seed: int = 5) -> tuple[Group, ...]:
    """Groups with rules of one to three conditions over the facts that machines tell."""
    rng = random.Random(seed)

    def condition() -> Condition:
        return read_condition(
            rng.choice(
                (
                    f"unit under north/{rng.randrange(30)}",
                    f"unit is {rng.choice(UNITS)}",
                    f"kind is {rng.choice(KINDS)}",
                    f"os.version below 12.{rng.randrange(1, 4)}",
                    f"addresses within 192.0.2.{rng.randrange(0, 256, 32)}/27",
                    f"applications has product=Program {rng.randrange(4)}",
                    f"hostname starts_with machine-0{rng.randrange(10)}",
                )
            )
        )

    made = []
    for number in range(count):
        rule = {"all": [read_condition(f"unit under north/{number % 30}"), condition()]}
        if number % 3 == 0:
            rule["none"] = [condition()]
        made.append(Group(key=f"group-{number}", members=MembershipRule.model_validate(rule)))
    return tuple(made)


def make_members(count: int, seed: int = 6) -> list[Member]:
    """Machines as membership looks at them."""
    rng = random.Random(seed)
    return [Member(f"id-{number}", facts_from_json(json.dumps(make_facts(number, rng)))) for number in range(count)]


# --- membership in memory ---


def plain_loop(groups: tuple[Group, ...]) -> Callable[[list[Member]], int]:
    """The floor: for each machine, look what each value makes true, and what that comes to; with no classes of ours."""
    conditions = list({condition for group in groups if group.members for condition in group.members.conditions()})
    readers: dict[str, Callable[[MemberFacts], object]] = {
        "unit": lambda facts: facts.unit,
        "kind": lambda facts: facts.kind,
        "os.version": lambda facts: facts.os.version if facts.os else None,
        "addresses": lambda facts: facts.addresses,
        "applications": lambda facts: facts.applications,
        "hostname": lambda facts: facts.hostname,
    }
    tests: dict[str, list[tuple[int, Test]]] = {name: [] for name in readers}
    for bit, condition in enumerate(conditions):
        tests[condition.field].append((1 << bit, test_of(condition)))
    bit_of = {condition: 1 << bit for bit, condition in enumerate(conditions)}
    rules = []
    for group in groups:
        assert group.members
        every = sum(bit_of[one] for one in group.members.all or () if isinstance(one, Condition))
        none = sum(bit_of[one] for one in set(group.members.none or ()) if isinstance(one, Condition))
        rules.append((every, none))

    def run(members: list[Member]) -> int:
        memos: dict[str, dict[object, int]] = {name: {} for name in readers}
        classes: dict[int, tuple[int, ...]] = {}
        for member in members:
            bits = 0
            for name, read in readers.items():
                value = read(member.facts)
                found = memos[name].get(value)
                if found is None:
                    tested = member.applications if name == "applications" else value
                    tested = tested.casefold() if isinstance(tested, str) else tested
                    hits = (bit for bit, test in tests[name] if tested is not None and test(tested))
                    found = memos[name][value] = sum(hits)
                bits |= found
            if bits not in classes:
                held = (n for n, (every, none) in enumerate(rules) if bits & every == every and not bits & none)
                classes[bits] = tuple(held)
        return len(classes)

    return run


def membership_rows(count: int, rounds: int) -> list[Row]:
    """From cold, one machine's changed facts, one edited rule."""
    groups, members = make_groups(200), make_members(count)
    order = [group.key for group in groups]
    floor = plain_loop(groups)

    def from_cold() -> Fleet:
        fleet = Fleet(Membership(groups, order))
        fleet.put_all(members, NOW)
        return fleet

    plain, cold = in_turns(rounds, whole(lambda: floor(members), 1), whole(from_cold, 1))
    fleet = from_cold()
    edited = Group(key="group-7", members=MembershipRule(all=(read_condition("os.version from 12.3"),)))
    after = tuple(edited if group.key == "group-7" else group for group in groups)
    one, rule, nothing = in_turns(
        rounds,
        whole(lambda: [fleet.put(member, NOW) for member in members[:1000]], 1000),
        whole(lambda: fleet.plan(Membership(after, order, fleet.membership), NOW), 1),
        whole(lambda: fleet.plan(Membership(groups, order, fleet.membership), NOW), 1),
    )
    return [
        Row(f"membership of {count:,} machines, 200 rules, from cold", cold, plain.median, goal=3),
        Row("one machine's facts changed", one, cold.median / count, goal=3),
        Row("one rule edited", rule, cold.median, goal=0.5),
        Row("time passed, nothing else changed", nothing, cold.median, goal=0.5),
    ]


# --- on a store ---


@contextmanager
def fleet_folder(count: int, seed: int = 6) -> Iterator[Path]:
    """The data folder of such a store, which nobody has open."""
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        keepers = open_keepers(folder)
        groups = make_groups(200)
        keepers.estate.change(lambda snapshot: snapshot.estate.replacing(groups=groups), by="bench")
        _fill(keepers, count, seed)
        keepers.close()
        yield folder


@contextmanager
def stored_fleet(count: int, seed: int = 6) -> Iterator[Keepers]:
    """The keepers of a store with that many machines, all of which hold their bundle."""
    with fleet_folder(count, seed) as folder:
        keepers = open_keepers(folder)
        try:
            yield keepers
        finally:
            keepers.close()


def _fill(keepers: Keepers, count: int, seed: int) -> None:
    rng, now = random.Random(seed), keepers.now()
    columns = ("id", "hostname", "lifecycle", "kind", "unit", "os_family", "os_version", "zone", "filter_layer")
    more = ("words", "class", "known_at", "joined_at", "last_heard", "silent_after", "facts_at", "applied_bundle")
    insert = f"INSERT INTO device ({', '.join((*columns, *more))}) VALUES ({', '.join('?' * 17)})"
    fleet = keepers.fleet.members
    with keepers.fleet.assessing() as assessment:
        connection = assessment.connection
        known: dict[tuple[str, ...], tuple[int, str]] = {}
        for number in range(count):
            facts = make_facts(number, rng)
            member = Member(f"id-{number}", facts_from_json(json.dumps(facts)))
            groups = fleet.membership.groups_of(member, NOW)
            if groups not in known:
                own = assessment.class_of(groups)
                known[groups] = (own.id, own.digest)
            told = member.facts
            system = told.os
            assert system
            row = (member.id, told.hostname, "enrolled", told.kind, told.unit, system.family, system.version, told.zone)
            times = (now, now, now, now + 3600, now)
            words = f"{told.hostname} {told.unit}"
            connection.execute(insert, (*row, told.layers.filter, words, known[groups][0], *times, known[groups][1]))
            document = msgspec.json.encode(facts).decode()
            connection.execute("INSERT INTO device_facts (device, document) VALUES (?, ?)", (member.id, document))
            if told.layers.filter != "enforcing":
                code = "layer-off" if told.layers.filter == "off" else "layer-observing"
                connection.execute(
                    "INSERT INTO obstacle (code, layer, device, rank) VALUES (?, 'filter', ?, 5)", (code, member.id)
                )


def store_rows(count: int, rounds: int) -> list[Row]:
    """Lists, search, previews and one changed group on a store, beside bare indexed queries on the same file."""
    with stored_fleet(count) as keepers, closing(sqlite3.connect(keepers.folder.database)) as bare:
        return _store_rows(keepers, bare, count, rounds)


def _listed(keepers: Keepers, filter: DeviceFilter, sort: str = "hostname") -> Callable[[], object]:
    def run() -> object:
        with keepers.store.reading() as connection:
            found = device_lists.list_devices(connection, filter, keepers.now(), sort=sort, limit=50)
            return device_lists.devices_of(connection, found.rows, keepers.now())

    return run


def _store_rows(keepers: Keepers, bare: sqlite3.Connection, count: int, rounds: int) -> list[Row]:
    def query(sql: str) -> Callable[[], object]:
        return lambda: bare.execute(sql).fetchall()

    page = (
        "SELECT device.*, document FROM device JOIN device_facts ON device_facts.device = device.id"
        " ORDER BY hostname, id LIMIT 50"
    )
    searched = "SELECT id, (SELECT count(*) FROM device) FROM device WHERE hostname LIKE '%-000123%' LIMIT 50"
    counted = "SELECT class, count(*) FROM device GROUP BY class"
    group = Group(key="group-7", members=MembershipRule(all=(read_condition("os.version from 12.3"),)))

    estate = keepers.estate.snapshot.estate

    def ready() -> object:
        return readiness.fleet_readiness(keepers.store, estate, keepers.now(), None, None)

    def changed_group() -> object:
        number = keepers.estate.snapshot.revision
        rule = MembershipRule(all=(read_condition(f"hostname starts_with machine-0{number % 10}{number % 7}1"),))

        def edit(snapshot: Snapshot) -> Estate:
            estate = snapshot.estate
            groups = (
                Group(key=group.key, members=rule) if group.key == "group-7" else group for group in estate.groups
            )
            return estate.replacing(groups=tuple(groups))

        return keepers.estate.change(edit, by="bench")

    def matched() -> object:
        ids = keepers.fleet.matching(MembershipRule(all=(read_condition("os.version below 12.2"),)))
        return _listed(keepers, DeviceFilter(ids=ids))()

    calls: list[tuple[str, Callable[[], object], str, float]] = [
        ("list, first page", _listed(keepers, DeviceFilter()), page, 150),
        ("list, sorted by roll-out state", _listed(keepers, DeviceFilter(), "rollout"), page, 150),
        ("search by a part of the hostname", _listed(keepers, DeviceFilter(search="-000123")), searched, 150),
        ("machines of one group", _listed(keepers, DeviceFilter(group="group-7")), page, 150),
        ("machines by a condition on a fact", matched, searched, 150),
        (
            "readiness of the fleet",
            lambda: readiness.fleet_readiness(keepers.store, estate, keepers.now(), None, None),
            counted,
            150,
        ),
        (
            "readiness by unit",
            lambda: readiness.unit_readiness(keepers.store, estate, keepers.now(), "north"),
            counted,
            150,
        ),
        ("preview of a group", lambda: preview_group(keepers.fleet.members, group, NOW), counted, 150),
        ("one group changed, to its bundles", changed_group, counted, 200),
    ]
    rows = []
    for what, call, floor, most in calls:
        measured, below = in_turns(rounds, whole(call, 1), whole(query(floor), 1))
        rows.append(Row(f"{count:,} machines: {what}", measured, below.median, most_ms=most))
    return rows
