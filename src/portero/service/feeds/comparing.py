"""What another generation of a feed changes: hosts, categories, indicators, and what becomes of verdicts."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from typing import TYPE_CHECKING

from portero.core.insight.contents import filled
from portero.core.insight.previewing import Shifted
from portero.core.matching.categories import CategoryIndex, LayeredIndex, MemoryIndex
from portero.core.matching.feed_entries import FeedEntry, compared
from portero.core.nouns.estate import Estate
from portero.core.nouns.feed import Feed, FeedComparison, Generation, Transition
from portero.formats.index_files import IndexFile
from portero.store import activities
from portero.store.estates import moment

if TYPE_CHECKING:
    from portero.service.desk import Desk

MOST_HOSTS = 5_000
"""At how many of the changed hosts verdicts are looked at; those that were visited go first."""
MOST_TRANSITIONS, EXAMPLES = 200, 5
SECONDS = 5.0


def compare(desk: Desk, feed: Feed, generation: Generation, against: Generation | None) -> FeedComparison:
    """What putting a generation in force in place of another one changes."""
    if feed.kind == "indicators":
        return _compare_indicators(desk, feed, generation, against)
    return _Categories(desk, feed, generation, against).compared()


class _Categories:
    """Hosts of which the feed says something else, and what that does."""

    def __init__(self, desk: Desk, feed: Feed, generation: Generation, against: Generation | None) -> None:
        self._desk, self._feed, self._generation, self._against = desk, feed, generation, against
        holdings = desk.holdings
        self._new, self._old = holdings.categories_of(generation), holdings.categories_of(against)
        self._today = moment(desk.now()).date().toordinal()
        self._days = desk.snapshot.estate.settings.newly_registered_days
        self._hosts: dict[tuple[tuple[str, ...], tuple[str, ...]], int] = defaultdict(int)
        self._examples: dict[tuple[tuple[str, ...], tuple[str, ...]], list[str]] = defaultdict(list)
        self._looked: dict[str, None] = {}
        self.added = self.removed = self.changed = 0

    def compared(self) -> FeedComparison:
        with self._desk.store.reading() as connection:
            visited = activities.hosts_seen(connection)
        rest: dict[str, None] = {}
        for host, was, now in self._differing():
            self._count(host, was, now)
            if len(self._looked) < MOST_HOSTS and host in visited:
                self._looked[host] = None
            elif len(rest) < MOST_HOSTS:
                rest[host] = None
        looked = list({**self._looked, **rest})[:MOST_HOSTS]
        shifted = self._shifted(looked)
        total = self.added + self.removed + self.changed
        transitions = sorted(self._hosts.items(), key=lambda one: -one[1])[:MOST_TRANSITIONS]
        return FeedComparison(
            feed=self._feed.key,
            number=self._generation.number,
            against=self._against.number if self._against else None,
            added=self.added,
            removed=self.removed,
            changed=self.changed,
            transitions=tuple(
                Transition(before=was, after=now, hosts=number, examples=tuple(self._examples[was, now]))
                for (was, now), number in transitions
            ),
            verdicts=shifted.verdicts,
            effects=shifted.effects,
            looked_at=shifted.looked_at,
            complete=shifted.complete and shifted.looked_at >= total,
        )

    def _differing(self) -> Iterator[tuple[str, tuple[str, ...], tuple[str, ...]]]:
        """Every host of which the feed says something else, with what it says before and after."""
        old, new = (file.items() if file is not None else iter(()) for file in (self._old, self._new))
        for host, was, now in compared(old, new):
            before, after = (self._counted(value) for value in (was, now))
            if before != after:
                yield host, before, after

    def _counted(self, value: tuple[tuple[str, ...], int | None, int] | None) -> tuple[str, ...]:
        return FeedEntry(*value).counted(self._today, self._days) if value is not None else ()

    def _count(self, host: str, was: tuple[str, ...], now: tuple[str, ...]) -> None:
        self.added += not was
        self.removed += not now
        self.changed += bool(was and now)
        self._hosts[was, now] += 1
        examples = self._examples[was, now]
        if len(examples) < EXAMPLES:
            examples.append(host)

    def _shifted(self, hosts: list[str]) -> Shifted:
        desk = self._desk
        sides = ((self._old, self._against), (self._new, self._generation))
        indexes = [self._index_with(file, one, hosts) for file, one in sides]
        return desk.foresight.compare_indexes(desk.snapshot.estate, desk.directory, indexes, hosts, SECONDS)

    def _index_with(self, own: IndexFile | None, generation: Generation | None, hosts: list[str]) -> CategoryIndex:
        """The index as it is for these hosts with a generation of the feed in force, beside the other feeds."""
        holdings = self._desk.holdings
        held = holdings.held
        number = generation.number if generation is not None else None
        if held.kept.generations.get(self._feed.key) == number:
            return held.category_index
        files = holdings.files_in_force(self._desk.snapshot.estate)
        others = [file for key, file in files.items() if key != self._feed.key]
        then: dict[str, tuple[str, ...]] = {}
        for host in hosts:
            then[host] = tuple(sorted({one for file in (*others, own) for one in self._said(file, host)}))
        return LayeredIndex("", held.category_index, MemoryIndex(then))

    def _said(self, file: IndexFile | None, host: str) -> tuple[str, ...]:
        return self._counted(file.get(host)) if file is not None else ()


def _compare_indicators(desk: Desk, feed: Feed, generation: Generation, against: Generation | None) -> FeedComparison:
    estate = desk.snapshot.estate
    before, after = (_with(desk, estate, feed, one) for one in (against, generation))
    preview = desk.foresight.preview(before, after, desk.snapshot.revision, desk.directory)
    holdings = desk.holdings
    old, new = (holdings.indicators_of(one).said() for one in (against, generation))
    return FeedComparison(
        feed=feed.key,
        number=generation.number,
        against=against.number if against else None,
        added=len(new.keys() - old.keys()),
        removed=len(old.keys() - new.keys()),
        changed=sum(old[one] != new[one] for one in old.keys() & new.keys()),
        verdicts=preview.verdicts,
        effects=preview.effects,
        looked_at=len(old.keys() ^ new.keys()),
        complete=preview.complete,
    )


def _with(desk: Desk, estate: Estate, feed: Feed, generation: Generation | None) -> Estate:
    return filled(estate, {feed.key: desk.holdings.contents_of(generation)})
