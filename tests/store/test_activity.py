"""Activity in columns: what is told again is what was reported, whoever wrote it; counts and words follow."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from datetime import UTC, datetime

import pytest

from portero.core.nouns.activity import ActivityBatch
from portero.service.keepers import open_keepers
from portero.store import activity, activity_counts, database, pruning
from portero.store.activity import ActivityFilter
from portero.store.activity_counts import CountFilter
from portero.store.database import Store
from portero.store.sightings import sightings
from portero.store.words import ids_of, move_activity, words_of

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC).timestamp()
RULE = {
    "ruleset": "quiet",
    "rule": 3,
    "selector": "category games",
    "action": "block",
    "assignment": "quiet-all",
    "target": "whole-fleet",
    "mandatory": False,
}
PROGRAM = {"product": "Chart Table", "version": "3.1"}
URLS = [
    "http://a.example/",
    "https://a.example/page?q=1&u=http://b.example/x#part",
    "http://a.example//twice",
    "http://a.example:8080/with/port",
    "http://somebody@a.example/",
    "http://a.example",
    "http://a.example?only=query",
]


def attempt(seq: int, at: str = "2026-11-20T10:15:00Z", **more: object) -> dict[str, object]:
    return {"seq": seq, "at": at, "url": "http://a.example/", "host": "a.example", "verdict": "block", **more}


REPORTED = [
    *(attempt(number, url=url) for number, url in enumerate(URLS, start=1)),
    attempt(20, user="watch-2", browser="chromium", categories=["games", "music"], bundle="sha256:x", winner=RULE),
    attempt(21, verdict="warn", continued=True, reference="K7QF-2MXB"),
    attempt(22, verdict="allow", logged=True, at="2026-11-19T23:59:59Z"),
    attempt(23, host="games.category.test", url="http://games.category.test/"),
    {
        "seq": 24,
        "at": "2026-11-20T11:00:00Z",
        "start": {"product": "Chart Table", "version": "3.1"},
        "verdict": "block",
    },
    {"seq": 25, "at": "2026-11-20T11:00:00Z", "start": {"path": "/opt/x"}, "parent": "/bin/sh", "verdict": "block"}
    | {"running": "ended"},
]


@pytest.fixture
def store(tmp_path):
    made = Store(tmp_path / "portero.sqlite3")
    add_device(made, "one")
    yield made
    made.close()


def add_device(store: Store, id: str) -> None:
    with store.writing() as connection:
        connection.execute(
            "INSERT INTO device (id, hostname, lifecycle, kind, words, known_at)"
            " VALUES (?, ?, 'enrolled', 'laptop', '', 0)",
            (id, f"host-{id}"),
        )


def keep(store: Store, batch: int, *attempts: dict[str, object], device: str = "one", now: float = NOW) -> int:
    made = ActivityBatch.model_validate({"batch": batch, "attempts": attempts})
    with store.writing() as connection:
        return activity.keep_batch(connection, device, made, now)[0]


def listed(store: Store, **wanted: object) -> list[dict[str, object]]:
    with store.reading() as connection:
        found = activity.list_activity(connection, ActivityFilter(tests=True, **wanted), None, 100)
    assert found.total == len(found.items)
    return [one.model_dump(mode="json", exclude_none=True, exclude_defaults=True) for one in found.items]


def as_reported(attempts: list[dict[str, object]]) -> list[dict[str, object]]:
    made = ActivityBatch.model_validate({"batch": 1, "attempts": attempts})
    return [one.model_dump(mode="json", exclude_none=True, exclude_defaults=True) for one in made.attempts]


def by_seq(found: list[dict[str, object]]) -> list[dict[str, object]]:
    added = ("device", "hostname", "received_at", "test")
    told = [{name: value for name, value in one.items() if name not in added} for one in found]
    return sorted(told, key=lambda one: one["seq"])


def test_what_was_reported_is_told_again_just_so(store):
    assert keep(store, 1, *REPORTED) == len(REPORTED)
    assert by_seq(listed(store)) == as_reported(REPORTED)
    assert {one["seq"] for one in listed(store) if one.get("test")} == {23}


def test_what_comes_again_is_kept_and_counted_once(store):
    assert keep(store, 1, *REPORTED[:5]) == 5
    assert keep(store, 1, *REPORTED[:5]) == 0
    assert keep(store, 2, *REPORTED[3:8], REPORTED[7]) == 3
    assert counted(store, "hour") == {"2026-11-20T10": {"block": 8}}


def counted(store: Store, per: str, **wanted: object) -> dict[str, dict[str, int]]:
    length = {"hour": 13, "day": 10}[per]
    with store.reading() as connection:
        found, _ = activity_counts.counts(connection, per, CountFilter(0, int(NOW) + 86_400, **wanted))
    return {datetime.fromtimestamp(at, UTC).isoformat()[:length]: by for at, by in found.items()}


def test_attempts_are_counted_by_the_hour_and_the_day_without_tests(store):
    keep(store, 1, *REPORTED)
    assert counted(store, "hour") == {
        "2026-11-19T23": {"allow": 1},
        "2026-11-20T10": {"block": 8, "warn": 1},
        "2026-11-20T11": {"block": 2},
    }
    assert counted(store, "day") == {"2026-11-19": {"allow": 1}, "2026-11-20": {"block": 10, "warn": 1}}
    assert counted(store, "day", program="chart") == {"2026-11-20": {"block": 1}}
    assert counted(store, "day", ruleset="quiet") == {"2026-11-20": {"block": 1}}
    assert counted(store, "day", host="a.ex", verdict="warn") == {"2026-11-20": {"warn": 1}}
    with store.reading() as connection:
        _, most = activity_counts.counts(connection, "day", CountFilter(0, int(NOW) + 86_400))
    assert most == [("a.example", False, 10), ("/opt/x", True, 1), ("Chart Table", True, 1)]


def test_counts_are_those_of_the_attempts_that_are_kept(store):
    """Whatever came in which order: counting the rows comes to the same."""
    for number in range(30):
        at = f"2026-11-{10 + number % 9:02}T{number % 24:02}:30:00Z"
        keep(store, number + 1, attempt(number + 1, at=at, host=f"h{number % 4}.example", verdict="warn", winner=RULE))
    with store.reading() as connection:
        for per, seconds in (("hour", 3600), ("day", 86_400)):
            bare = connection.execute(
                f"SELECT CAST(at AS INTEGER) / {seconds} * {seconds}, host, coalesce(program, 0), rule, verdict,"
                " count(*) FROM activity GROUP BY 1, 2, 3, 4, 5"
            ).fetchall()
            kept = connection.execute(f"SELECT * FROM activity_{per} ORDER BY 1, 2, 3, 4, 5").fetchall()
            assert list(map(tuple, kept)) == list(map(tuple, bare))


def test_words_are_kept_once_and_go_when_nothing_has_said_them_for_as_long_as_activity_is_kept(store):
    keep(store, 1, attempt(1, host="old.example", url="http://old.example/"), now=NOW)
    keep(store, 2, attempt(2), now=NOW)
    keep(store, 3, attempt(3, at="2027-02-20T10:15:00Z"), now=NOW + 100 * 86_400)
    with store.writing() as connection:
        words = {row[0] for row in connection.execute("SELECT word FROM activity_word WHERE kind = 'host'")}
        assert words == {"old.example", "a.example"}
        before = NOW + 50 * 86_400
        while pruning.prune_activity(connection, before):
            pass
        pruning.prune_days(connection, before)
        words = {row[0] for row in connection.execute("SELECT word FROM activity_word WHERE kind = 'host'")}
    assert words == {"a.example"}
    assert [one["host"] for one in listed(store)] == ["a.example"]


def test_a_device_that_is_another_one_takes_its_attempts_along(store):
    add_device(store, "two")
    keep(store, 1, attempt(1), attempt(2))
    keep(store, 1, attempt(1, host="b.example", url="http://b.example/"), device="two")
    with store.writing() as connection:
        assert move_activity(connection, "one", "two") == 2
    assert [(one["seq"], one["host"]) for one in by_seq(listed(store, device="one"))] == [
        (1, "a.example"),
        (2, "a.example"),
        (3, "b.example"),
    ]
    assert listed(store, device="two") == []


def test_a_device_of_which_nothing_was_reported_yet_takes_over_the_name(store):
    add_device(store, "two")
    keep(store, 1, attempt(1), device="two")
    with store.writing() as connection:
        assert move_activity(connection, "one", "two") == 0
    assert [one["device"] for one in listed(store)] == ["one"]


def test_words_of_many_kinds_may_be_alike(store):
    with store.writing() as connection:
        ids = ids_of(connection, {("host", "x"), ("person", "x"), ("host", "ä'\"\n")}, NOW)
        assert len(set(ids.values())) == 3
        assert words_of(connection, ids.values())[ids["host", "ä'\"\n"]] == "ä'\"\n"
        assert ids_of(connection, ids.keys(), NOW) == ids


def test_activity_of_an_earlier_schema_is_the_same_once_it_is_migrated(tmp_path):
    path = tmp_path / "portero.sqlite3"
    with closing(sqlite3.connect(path, isolation_level=None)) as connection:
        for number, step in enumerate(database._STEPS[:14], start=1):
            connection.executescript(f"BEGIN;\n{step.read_text()}\nPRAGMA user_version = {number};\nCOMMIT;")
        connection.execute(
            "INSERT INTO device (id, hostname, lifecycle, kind, words, known_at)"
            " VALUES ('one', 'host-one', 'enrolled', 'laptop', '', 0)"
        )
        made = ActivityBatch.model_validate({"batch": 1, "attempts": REPORTED})
        for one in made.attempts:
            row = ("one", one.seq, one.at.timestamp(), NOW, one.host or "", one.tried if one.start else None)
            more = (one.verdict.value, one.user, one.reference, int((one.host or "").endswith(".test")))
            connection.execute(
                "INSERT INTO activity (device, seq, at, received_at, host, program, verdict, person, reference, test,"
                " document) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (*row, *more, one.model_dump_json(exclude_none=True)),
            )
    keepers = open_keepers(tmp_path)
    try:
        assert by_seq(listed(keepers.store)) == as_reported(REPORTED)
        assert counted(keepers.store, "day") == {"2026-11-19": {"allow": 1}, "2026-11-20": {"block": 10, "warn": 1}}
        # and it goes on as if it had been kept so from the first
        assert keep(keepers.store, 2, REPORTED[0], attempt(30)) == 1
        with keepers.store.reading() as connection:
            kinds = connection.execute(
                "SELECT kind, word, count(*) FROM activity_word GROUP BY 1, 2 HAVING count(*) > 1"
            )
            assert kinds.fetchall() == []
            assert json.loads(connection.execute("SELECT word FROM activity_word WHERE kind = 'rule'").fetchone()[0])
    finally:
        keepers.close()


def say_and_fail(connection, *words):
    ids_of(connection, words, NOW)
    raise RuntimeError


def test_ids_are_remembered_while_they_hold_and_no_longer(store):
    said = {("host", "x"), ("person", "y")}
    with store.writing() as connection:
        kept = ids_of(connection, said, NOW)
    with store.writing() as connection:
        with pytest.raises(RuntimeError), connection.apart():
            say_and_fail(connection, ("host", "undone"))
        ids_of(connection, {("host", "other")}, NOW)
        assert words_of(connection, ids_of(connection, {("host", "undone")}, NOW).values()).popitem()[1] == "undone"
    with pytest.raises(RuntimeError), store.writing() as connection:
        say_and_fail(connection, ("host", "gone"))
    with closing(sqlite3.connect(store.path)) as elsewhere, elsewhere:
        elsewhere.execute("DELETE FROM activity_word")
    with store.writing() as connection:
        again = ids_of(connection, said | {("host", "gone")}, NOW)
        assert set(words_of(connection, again.values()).values()) == {"x", "y", "gone"}
    assert kept.keys() < again.keys()


def test_a_partly_new_batch_counts_sightings_of_what_is_new_alone(store):
    keep(store, 1, attempt(1), attempt(2))
    keep(store, 2, attempt(2), attempt(3))
    with store.reading() as connection:
        assert sightings(connection, "a.example").visits == 3
