"""The store's file: opening, migrating, one writer beside readers, a full disk, backups, pages."""

from __future__ import annotations

import sqlite3
import threading
from contextlib import closing

import pytest

from portero.store import revisions
from portero.store.database import Store, StoreFull, StoreProblem
from portero.store.estate import load_estate
from portero.store.paging import BadCursor, Query, decode_cursor, encode_cursor, like_pattern, page


@pytest.fixture
def store(tmp_path):
    opened = Store(tmp_path / "portero.sqlite3")
    yield opened
    opened.close()


def put_value(connection: sqlite3.Connection, name: str, value: str) -> None:
    connection.execute("INSERT OR REPLACE INTO setting (name, value) VALUES (?, ?)", (name, value))


def get_value(connection: sqlite3.Connection, name: str) -> str | None:
    row = connection.execute("SELECT value FROM setting WHERE name = ?", (name,)).fetchone()
    return row[0] if row else None


def put(store: Store, name: str, value: str) -> None:
    with store.writing() as connection:
        put_value(connection, name, value)


def get(store: Store, name: str) -> str | None:
    with store.reading() as connection:
        return get_value(connection, name)


def test_a_new_file_gets_the_newest_schema_strict_and_with_foreign_keys(store):
    with store.reading() as connection:
        version = connection.execute("PRAGMA user_version").fetchone()[0]
        tables = connection.execute("SELECT name, strict FROM pragma_table_list WHERE schema = 'main'").fetchall()
        assert connection.execute("PRAGMA foreign_keys").fetchone()[0] == 1
        assert connection.execute("PRAGMA journal_mode").fetchone()[0] == "wal"
    assert version >= 1
    ours = {row["name"]: row["strict"] for row in tables if not row["name"].startswith("sqlite_")}
    assert len(ours) > 15
    assert all(ours.values()), ours


def test_opening_again_changes_nothing(tmp_path):
    path = tmp_path / "portero.sqlite3"
    first = Store(path)
    put(first, "kept", "yes")
    first.close()
    second = Store(path)
    assert get(second, "kept") == "yes"
    second.close()


def test_a_file_of_a_newer_program_is_left_alone(tmp_path):
    path = tmp_path / "portero.sqlite3"
    Store(path).close()
    with closing(sqlite3.connect(path)) as later:
        later.execute("PRAGMA user_version = 999")
    before = path.read_bytes()
    with pytest.raises(StoreProblem, match="made by a newer Portero"):
        Store(path)
    assert path.read_bytes() == before


def test_a_file_that_is_no_store_is_told_and_left_alone(tmp_path):
    path = tmp_path / "notes.txt"
    path.write_text("years of work, and no database at all " * 100)
    before = path.read_bytes()
    with pytest.raises(StoreProblem, match="is damaged"):
        Store(path)
    assert path.read_bytes() == before


def test_a_write_is_whole_or_not_at_all(store):
    put(store, "before", "1")

    def half() -> None:
        with store.writing() as connection:
            put_value(connection, "half", "1")
            raise RuntimeError("in the middle")

    with pytest.raises(RuntimeError):
        half()
    assert (get(store, "before"), get(store, "half")) == ("1", None)
    put(store, "after", "1")
    assert get(store, "after") == "1", "the writer goes on"


def test_a_reading_sees_one_state_while_writers_go_on(store):
    put(store, "number", "1")
    with store.reading() as connection:
        assert get_value(connection, "number") == "1"
        put(store, "number", "2")
        assert get_value(connection, "number") == "1"
    assert get(store, "number") == "2"


def test_many_threads_write_one_after_the_other(store):
    put(store, "count", "0")

    def add() -> None:
        for _ in range(25):
            with store.writing() as connection:
                put_value(connection, "count", str(int(get_value(connection, "count") or 0) + 1))

    threads = [threading.Thread(target=add) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert get(store, "count") == "200"


def test_on_a_full_disk_nothing_is_changed_and_reading_goes_on(store):
    put(store, "before", "1")
    with store.reading() as connection:
        pages = connection.execute("PRAGMA page_count").fetchone()[0]
    store._writer.execute(f"PRAGMA max_page_count = {pages + 2}")
    with pytest.raises(StoreFull, match="no room left"):
        put(store, "big", "x" * 1_000_000)
    assert (get(store, "before"), get(store, "big")) == ("1", None)
    store._writer.execute("PRAGMA max_page_count = 1000000")
    put(store, "big", "x" * 1_000_000)
    assert len(get(store, "big") or "") == 1_000_000


def test_a_backup_is_a_store_of_its_own(store, tmp_path):
    put(store, "kept", "yes")
    store.back_up(tmp_path / "copy.sqlite3")
    put(store, "kept", "changed since")
    copy = Store(tmp_path / "copy.sqlite3")
    assert get(copy, "kept") == "yes"
    copy.close()


def test_an_empty_estate_is_at_revision_nought(store):
    with store.reading() as connection:
        assert revisions.newest_revision(connection) == 0
        estate, versions = load_estate(connection)
        assert estate.groups == ()
        assert versions["settings"] == {}
        assert revisions.get_revision(connection, 1) is None


# --- pages ---


@pytest.fixture
def numbers():
    with closing(sqlite3.connect(":memory:")) as connection:
        connection.row_factory = sqlite3.Row
        connection.execute("CREATE TABLE thing (id TEXT PRIMARY KEY, size INTEGER)")
        rows = [(f"t{n:02}", n % 5) for n in range(23)]
        connection.executemany("INSERT INTO thing VALUES (?, ?)", rows)
        yield connection


@pytest.mark.parametrize("descending", [False, True])
@pytest.mark.parametrize("limit", [1, 4, 23, 100])
def test_pages_together_are_the_whole_list_once_and_in_order(numbers, limit, descending):
    query = Query("thing.*", "thing", [], {}, "thing.size", descending, "thing.id")
    found, cursor = [], None
    while True:
        got = page(numbers, query, cursor, limit)
        assert got.total == 23
        found += [(row["size"], row["id"]) for row in got.rows]
        cursor = got.next
        if cursor is None:
            break
    assert found == sorted(found, reverse=descending)
    assert len(found) == len(set(found)) == 23


def test_a_cursor_is_good_for_its_own_order_only(numbers):
    up = Query("thing.*", "thing", [], {}, "thing.size", False, "thing.id")
    down = Query("thing.*", "thing", [], {}, "thing.size", True, "thing.id")
    cursor = page(numbers, up, None, 3).next
    with pytest.raises(BadCursor, match="belongs to another order"):
        page(numbers, down, cursor, 3)
    for damaged in ("", "x", "!!!", "bm90IGpzb24", encode_cursor("thing.size+", [1], "x")):
        with pytest.raises(BadCursor):
            decode_cursor(damaged, "thing.size+")


def test_what_is_sought_is_never_a_pattern():
    with closing(sqlite3.connect(":memory:")) as connection:

        def matches(text: str, value: str) -> bool:
            found = connection.execute("SELECT ? LIKE ? ESCAPE '\\'", (value, like_pattern(text))).fetchone()
            return bool(found[0])

        assert matches("50%", "is 50% off")
        assert not matches("50%", "is 500 off")
        assert not matches("a_c", "abc")
        assert matches("a\\b", "xa\\by")
