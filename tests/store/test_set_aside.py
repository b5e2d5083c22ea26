"""What could not be expressed: kept one by one, replaced by its newer version, and within bounds."""

from __future__ import annotations

import pytest

from portero.formats.stix import LeftOut
from portero.store import indicators
from portero.store.database import Store


@pytest.fixture
def store(tmp_path):
    opened = Store(tmp_path / "portero.sqlite3")
    yield opened
    opened.close()


def put(store: Store, *asides: LeftOut, owner: str = "watch", now: float = 0.0) -> None:
    with store.writing() as connection:
        indicators.set_aside(connection, owner, asides, now)


def kept(store: Store, owner: str = "watch", limit: int = 100) -> list:
    with store.reading() as connection:
        return [indicators.aside_of(row) for row in indicators.list_aside(connection, owner, None, limit).rows]


def aside(id: str, problem: str = "why", **more: object) -> LeftOut:
    return LeftOut(f"name of {id}", problem, {"id": id, **more})


def test_the_same_object_is_kept_once_for_each_owner(store):
    put(store, aside("a"), aside("b"))
    put(store, aside("a", "another reason"), now=60.0)
    put(store, aside("a"), owner="other")
    assert [(one.name, one.problem) for one in kept(store)] == [("name of a", "another reason"), ("name of b", "why")]
    assert len(kept(store, "other")) == 1


def test_the_oldest_go_where_there_are_too_many(store, monkeypatch):
    monkeypatch.setattr(indicators, "MOST_ASIDE", 5)
    put(store, *(aside(str(number)) for number in range(20)))
    put(store, aside("new"), now=60.0)
    assert [one.document["id"] for one in kept(store)] == ["new", "19", "18", "17", "16"]


def test_of_an_object_that_is_too_long_only_what_it_is_called_is_kept(store):
    put(store, aside("x" * 5_000, description="y" * 100_000))
    (one,) = kept(store)
    assert one.document["id"] == "x" * 200
    assert one.document["too_long"] > 100_000
    assert "description" not in one.document
