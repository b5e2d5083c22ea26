"""Index files say what a plain dict says, however they are cut into blocks; damaged ones are told."""

from __future__ import annotations

import io
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portero.core.matching.categories import LayeredIndex, MemoryIndex, look_up
from portero.core.matching.feed_entries import compared
from portero.formats import index_files
from portero.formats.index_files import BadIndex, IndexFile, write_index

LABELS = st.text("abc-_x0", min_size=1, max_size=6).filter(lambda one: one.strip("-_") == one)
HOSTS = st.lists(LABELS, min_size=1, max_size=3).map(lambda labels: ".".join([*labels, "example"]))
VALUES = st.tuples(st.lists(st.sampled_from("abcdef"), max_size=3).map(tuple), st.none() | st.integers(0, 3))
TABLES = st.dictionaries(HOSTS, VALUES, max_size=40)


def written(table: dict[str, tuple[object, ...]]) -> bytes:
    out = io.BytesIO()
    assert write_index(out, sorted(table.items())) == len(table)
    return out.getvalue()


@given(TABLES, st.integers(1, 12), st.lists(HOSTS, max_size=10))
def test_an_index_file_says_what_a_dict_says(table, block, others):
    before, index_files.BLOCK = index_files.BLOCK, block
    try:
        index = IndexFile(written(table))
    finally:
        index_files.BLOCK = before
    assert len(index) == len(table)
    assert list(index.items()) == sorted(table.items())
    for host in (*table, *others):
        assert index.get(host) == table.get(host)


def test_a_million_random_hosts_are_looked_up_as_in_a_dict():
    chance = random.Random(6)
    table = {f"h{chance.randrange(10**7):x}.site{n % 997}.example": (("games",), None) for n in range(200_000)}
    for host in chance.sample(sorted(table), 20_000):
        table[host] = (("games", "music"), chance.randrange(100))
    index = IndexFile(written(table))
    known = sorted(table)
    for _ in range(1_000_000):
        host = chance.choice(known) if chance.random() < 0.5 else f"h{chance.randrange(10**7):x}.site5.example"
        assert index.get(host) == table.get(host)


def test_more_values_than_sixteen_bits_count():
    table = {f"host-{number:06}.example": ((), number) for number in range(70_000)}
    index = IndexFile(written(table))
    assert index.get("host-000000.example") == ((), 0)
    assert index.get("host-069999.example") == ((), 69_999)


@given(TABLES, st.data())
def test_a_file_that_was_cut_off_is_told(table, data):
    whole = written(table)
    with pytest.raises(BadIndex):
        IndexFile(whole[: data.draw(st.integers(0, len(whole) - 1))])
    with pytest.raises(BadIndex):
        IndexFile(whole[data.draw(st.integers(1, len(whole))) :])


@given(TABLES, TABLES)
def test_a_difference_on_top_of_a_base_says_what_the_new_one_says(old, new):
    before, after = ({host: value[0] or ("x",) for host, value in table.items()} for table in (old, new))
    differing = {
        host: now or () for host, was, now in compared(sorted(before.items()), sorted(after.items())) if was != now
    }
    index = LayeredIndex("", MemoryIndex(before), IndexFile(written(differing)))
    for host in before | after:
        assert index.get(host) == after.get(host)
        assert look_up("www." + host, index, {}) == look_up("www." + host, MemoryIndex(after), {})
