"""What feeds say of hosts: joined, and compared, against plain dicts."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from portero.core.matching.feed_entries import FeedEntry, compared, joined
from portero.core.nouns.taxonomy import NEWLY_REGISTERED

TODAY, DAYS = 1_000, 30
HOSTS = st.sampled_from([f"{name}.example" for name in ("a", "b", "c", "a-b", "a.b", "é")])
ENTRIES = st.builds(
    FeedEntry,
    st.lists(st.sampled_from(["games", "music", "news"]), max_size=2, unique=True).map(
        lambda some: tuple(sorted(some))
    ),
    st.none() | st.integers(TODAY - 60, TODAY + 5),
    st.integers(0, TODAY),
)
FEEDS = st.dictionaries(HOSTS, ENTRIES, max_size=6)


def in_order(feed: dict[str, FeedEntry]) -> list[tuple[str, FeedEntry]]:
    return sorted(feed.items())


@given(st.lists(FEEDS, max_size=4))
def test_a_host_is_in_the_categories_of_all_feeds_together(feeds):
    expected: dict[str, set[str]] = {}
    for feed in feeds:
        for host, entry in feed.items():
            said = expected.setdefault(host, set())
            said.update(entry.categories)
            if entry.registered is not None and TODAY - entry.registered < DAYS:
                said.add(NEWLY_REGISTERED)
    found = list(joined(map(in_order, feeds), TODAY, DAYS))
    assert [host for host, _ in found] == sorted(host for host, said in expected.items() if said)
    for host, categories in found:
        assert categories == tuple(sorted(expected[host]))


@given(FEEDS, FEEDS)
def test_two_states_are_compared_host_by_host_in_order(before, after):
    found = list(compared(in_order(before), in_order(after)))
    assert found == [(host, before.get(host), after.get(host)) for host in sorted(before.keys() | after.keys())]


@given(ENTRIES, st.integers(1, 90))
def test_a_host_is_newly_registered_for_so_many_days_and_then_no_more(entry, days):
    found = {day for day in range(TODAY - 70, TODAY + 100) if NEWLY_REGISTERED in entry.counted(day, days)}
    if entry.registered is None:
        assert not found
    else:
        assert max(found) == entry.registered + days - 1
