"""What another generation of a feed changes: hosts, categories, indicators, and what becomes of verdicts."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator

from portero.core.insight.brought_rules import filled
from portero.core.insight.previews import Shifted
from portero.core.matching.categories import CategoryIndex, LayeredIndex, MemoryIndex
from portero.core.matching.feed_entries import FeedEntry, compared
from portero.core.nouns.feed import Feed, Generation
from portero.core.nouns.feed_comparison import FeedComparison, Transition
from portero.formats.index_files import IndexFile
from portero.service.feeds.holdings import Holdings
from portero.service.foresight import Foresight
from portero.service.problems import Refusal
from portero.service.state import Current, Snapshot
from portero.store import feeds, sightings
from portero.store.database import Store
from portero.store.moments import moment

MOST_HOSTS = 5_000
"""At how many of the changed hosts verdicts are looked at; those that were visited go first."""
MOST_TRANSITIONS, EXAMPLES = 200, 5


class Comparisons:
    """Compares generations of feeds: nothing is put in force."""

    def __init__(
        self,
        store: Store,
        current: Current,
        holdings: Holdings,
        foresight: Foresight,
        clock: Callable[[], float],
    ) -> None:
        self.store, self.holdings, self.foresight, self.now = store, holdings, foresight, clock
        self._current = current

    @property
    def snapshot(self) -> Snapshot:
        """What counts now."""
        return self._current.snapshot

    def compare(self, feed: Feed, number: int) -> FeedComparison:
        """What a generation changes, against the one that it replaced; what one that never counted would, against the
        one in force. Refusal where they are not there (any more).
        """
        with self.store.reading() as connection:
            current = feeds.status_of(connection, feed.key).current
            generation = feeds.get_generation(connection, feed.key, number)
            replaced = generation.replaced if generation is not None else None
            against = feeds.get_generation(connection, feed.key, current if replaced is None else replaced)
        if generation is None:
            raise Refusal("not-found", f"There is no generation {number} of “{feed.key}”.")
        has = self.holdings.artefacts.has
        if not has(generation.digest) or (against is not None and not has(against.digest)):
            raise Refusal("not-found", f"Of generation {number} of “{feed.key}” only the figures are kept.")
        if feed.kind == "indicators":
            return self._of_indicators(feed, generation, against)
        if feed.kind == "programs":
            return self._of_programs(feed, generation, against)
        return _Categories(self, feed, generation, against).compared()

    def _of_programs(self, feed: Feed, generation: Generation, against: Generation | None) -> FeedComparison:
        """What versions come and go: what becomes of starts of programs that no machine has is not looked at."""
        old, new = (self.holdings.programs_of(side) for side in (against, generation))
        added, removed, changed = new.differences(old)
        return FeedComparison(
            feed=feed.key,
            number=generation.number,
            against=against.number if against else None,
            added=added,
            removed=removed,
            changed=changed,
        )

    def _of_indicators(self, feed: Feed, generation: Generation, against: Generation | None) -> FeedComparison:
        snapshot = self.snapshot
        before, after = (
            filled(snapshot.estate, {feed.key: self.holdings.contents_of(side)}) for side in (against, generation)
        )
        preview = self.foresight.preview(before, after, snapshot.revision)
        old, new = (self.holdings.indicators_of(side).said() for side in (against, generation))
        return FeedComparison(
            feed=feed.key,
            number=generation.number,
            against=against.number if against else None,
            added=len(new.keys() - old.keys()),
            removed=len(old.keys() - new.keys()),
            changed=sum(old[key] != new[key] for key in old.keys() & new.keys()),
            verdicts=preview.verdicts,
            effects=preview.effects,
            looked_at=len(old.keys() ^ new.keys()),
        )


class _Categories:
    """Hosts of which the feed says something else, and what that does."""

    def __init__(self, own: Comparisons, feed: Feed, generation: Generation, against: Generation | None) -> None:
        self._own, self._feed, self._generation, self._against = own, feed, generation, against
        self._estate = own.snapshot.estate
        self._new, self._old = own.holdings.categories_of(generation), own.holdings.categories_of(against)
        self._today = moment(own.now()).date().toordinal()
        self._days = self._estate.settings.newly_registered_days
        self._hosts: dict[tuple[tuple[str, ...], tuple[str, ...]], int] = defaultdict(int)
        self._examples: dict[tuple[tuple[str, ...], tuple[str, ...]], list[str]] = defaultdict(list)
        self._looked: dict[str, None] = {}
        self.added = self.removed = self.changed = 0

    def compared(self) -> FeedComparison:
        with self._own.store.reading() as connection:
            visited = sightings.hosts_seen(connection)
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
        transitions = sorted(self._hosts.items(), key=lambda item: -item[1])[:MOST_TRANSITIONS]
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
            complete=shifted.looked_at >= total,
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
        sides = ((self._old, self._against), (self._new, self._generation))
        indexes = [self._index_with(file, one, hosts) for file, one in sides]
        return self._own.foresight.compare_indexes(self._estate, indexes, hosts)

    def _index_with(self, own: IndexFile | None, generation: Generation | None, hosts: list[str]) -> CategoryIndex:
        """The index as it is for these hosts with a generation of the feed in force, beside the other feeds."""
        holdings = self._own.holdings
        held = holdings.held
        number = generation.number if generation is not None else None
        if held.kept.generations.get(self._feed.key) == number:
            return held.category_index
        files = holdings.files_in_force(self._estate)
        others = [file for key, file in files.items() if key != self._feed.key]
        then: dict[str, tuple[str, ...]] = {}
        for host in hosts:
            then[host] = tuple(sorted({category for file in (*others, own) for category in self._said(file, host)}))
        return LayeredIndex("", held.category_index, MemoryIndex(then))

    def _said(self, file: IndexFile | None, host: str) -> tuple[str, ...]:
        return self._counted(file.get(host)) if file is not None else ()
