"""A store of an earlier schema: everything is there once it is migrated, and every revision can be gone back to.

`schema-4` was kept by the last Portero that had a table for each noun: every noun, orders that changed, long rulesets
of which only the differences are kept; and beside it what that one exported of each revision.
"""

from __future__ import annotations

import gzip
import json
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from portero.core.nouns.estate import NOUNS, PARTS
from portero.formats.estate_document import written_estate
from portero.service.keepers import open_keepers
from portero.store.database import Store, StoreProblem
from portero.store.estate import load_estate

KEPT = Path(__file__).parent / "schema-4"
TOLD = json.loads(gzip.decompress((KEPT / "told.json.gz").read_bytes()))


SINCE = {"address list", "application correction"}
"""Nouns that came later."""


@pytest.fixture
def folder(tmp_path) -> Path:
    (tmp_path / "portero.sqlite3").write_bytes(gzip.decompress((KEPT / "portero.sqlite3.gz").read_bytes()))
    return tmp_path


@pytest.fixture
def keepers(folder):
    made = open_keepers(folder)
    yield made
    made.close()


def test_every_revision_is_as_it_was_told_before(keepers):
    numbers = sorted(map(int, TOLD["estates"]))
    assert keepers.estate.snapshot.revision == numbers[-1]
    for number in numbers:
        assert written_estate(keepers.estate.at(number)) == TOLD["estates"][str(number)], number


def test_versions_and_machines_are_those_from_before(keepers):
    snapshot = keepers.estate.snapshot
    had = {noun: versions for noun, versions in TOLD["versions"].items() if any(versions.values())}
    assert {noun: versions for noun, versions in snapshot.versions.items() if versions} == had
    then = {*NOUNS, *PARTS} - SINCE
    assert all(snapshot.versions[word] for word in then), "the kept store has some of every noun that there was"
    assert sorted(member.facts.hostname for member in keepers.fleet.members) == ["pc-0", "pc-1", "pc-2"]


def test_an_earlier_revision_is_restored_and_the_history_goes_on(keepers, folder):
    newest = keepers.estate.snapshot.revision
    for number in (3, newest // 2, newest - 1):
        keepers.estate.change(lambda _snapshot, number=number: keepers.estate.at(number), by="tests")
        assert written_estate(keepers.estate.snapshot.authored) == TOLD["estates"][str(number)]
    assert written_estate(keepers.estate.at(newest)) == TOLD["estates"][str(newest)]
    keepers.close()
    again = open_keepers(folder)
    assert again.estate.snapshot.revision == newest + 3
    assert written_estate(again.estate.snapshot.authored) == TOLD["estates"][str(newest - 1)]
    again.close()


def test_what_nobody_here_knows_is_told_and_not_dropped(folder):
    Store(folder / "portero.sqlite3").close()
    with closing(sqlite3.connect(folder / "portero.sqlite3")) as store, store:
        store.execute("INSERT INTO authored (noun, key, body, version, position) VALUES ('berth', 'b', '{}', 1, 1)")
    store = Store(folder / "portero.sqlite3")
    with store.reading() as connection, pytest.raises(StoreProblem, match="does not know: berth “b”"):
        load_estate(connection)
    store.close()
