"""What category feeds say of hosts: joined into one index, and compared from one generation to the next.

All go through hosts in their sorted order, one by one, so that millions need little memory.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from heapq import merge
from itertools import groupby
from operator import itemgetter
from typing import NamedTuple, TypeVar

from portero.core.nouns.taxonomy import NEWLY_REGISTERED

Value = TypeVar("Value")


class FeedEntry(NamedTuple):
    """What one feed says of a host. Days are counted from 0001-01-01, as `date.toordinal` does."""

    categories: tuple[str, ...]
    registered: int | None
    """The day on which its name was registered, where the feed tells."""
    since: int
    """The day since which the feed has said these categories."""

    def counted(self, today: int, newly_days: int) -> tuple[str, ...]:
        """The categories that it comes to today: newly registered for so many days from the first."""
        if self.registered is not None and today - self.registered < newly_days:
            return tuple(sorted({*self.categories, NEWLY_REGISTERED}))
        return self.categories


Entries = Iterable[tuple[str, FeedEntry]]
"""Hosts in their order, each once, with what a feed says."""


def joined(feeds: Iterable[Entries], today: int, newly_days: int) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Every host that some feed gives categories, in order, with the categories of all of them."""
    for host, said in groupby(merge(*feeds, key=itemgetter(0)), key=itemgetter(0)):
        categories = tuple(one.counted(today, newly_days) for _, one in said)
        found = (
            categories[0]
            if len(categories) == 1
            else tuple(sorted({category for some in categories for category in some}))
        )
        if found:
            yield host, found


def compared(
    before: Iterable[tuple[str, Value]], after: Iterable[tuple[str, Value]]
) -> Iterator[tuple[str, Value | None, Value | None]]:
    """Every host of either, in order, with its value before and after: None where it has none."""
    olds, news = iter(before), iter(after)
    old, new = next(olds, None), next(news, None)
    while old is not None or new is not None:
        if new is None or (old is not None and old[0] < new[0]):
            assert old is not None
            yield old[0], old[1], None
            old = next(olds, None)
        elif old is None or new[0] < old[0]:
            yield new[0], None, new[1]
            new = next(news, None)
        else:
            yield new[0], old[1], new[1]
            old, new = next(olds, None), next(news, None)
