"""What is held of feeds: the files of their generations, and what is in force of them."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping
from datetime import date
from itertools import count
from pathlib import Path
from typing import BinaryIO, NamedTuple

from portero.core.insight.brought_rules import by_kind
from portero.core.matching.categories import LayeredIndex
from portero.core.matching.feed_entries import FeedEntry, compared, joined
from portero.core.nouns.estate import Estate
from portero.core.nouns.feed import Generation
from portero.core.nouns.rule import Rule
from portero.formats.category_index import SHIPPED_INDEX, read_index
from portero.formats.category_parts import CategoryPart, CategoryParts
from portero.formats.index_files import IndexFile, write_index
from portero.service.feeds.indicators import FeedIndicators
from portero.service.feeds.programs import FeedPrograms
from portero.store import feeds
from portero.store.artefacts import Artefacts
from portero.store.data_folder import ARTEFACTS
from portero.store.database import Store
from portero.store.feeds import IndexRecord
from portero.store.moments import moment

KEPT_GENERATIONS = 5
"""Of how many generations of each feed the contents are kept, to go back to."""
MOST_DIFFERENT = 0.05
"""Where more than this part of the base is different, a new base is made."""
FEW = 2_000
"""So many may be different however small the base is."""


class HeldIndex(NamedTuple):
    """The index in force, opened, and what is kept of it; never changed, only replaced."""

    category_index: LayeredIndex
    kept: IndexRecord


class _TooDifferent(Exception):
    """The difference has become too big: a new base is due."""


class Holdings:
    """The files, and what is in force of them."""

    def __init__(self, folder: Path, store: Store, estate: Estate, now: float) -> None:
        self.artefacts = Artefacts(folder / ARTEFACTS)
        self._store = store
        with store.reading() as connection:
            kept, current = feeds.get_index(connection), self._current(connection, estate)
        if kept is None or not all(self.artefacts.has(file.digest) for file in kept.parts.files):
            made = self.make_index(estate, current, now, None)
            with store.writing() as connection:
                feeds.set_index(connection, made)
            kept = made
        self.held = HeldIndex(self.open_index(kept.parts), kept)

    @property
    def index_in_force(self) -> LayeredIndex:
        """The category index that counts."""
        return self.held.category_index

    def take(self, index: IndexRecord) -> None:
        """From now on this index counts."""
        self.artefacts.claim(file.digest for file in index.parts.files)
        before = self.held
        same = index.digest == before.kept.digest
        self.held = HeldIndex(before.category_index if same else self.open_index(index.parts), index)

    def contents(self, estate: Estate) -> dict[str, Mapping[str, tuple[Rule, ...]]]:
        """What each feed of indicators brings by its generation in force."""
        with self._store.reading() as connection:
            current = self._of_kind(estate, self._current(connection, estate), "indicators")
        return {key: self.contents_of(one) for key, one in current.items()}

    def numbers(self, estate: Estate) -> tuple[tuple[str, int], ...]:
        """The generation in force of each feed that has one."""
        with self._store.reading() as connection:
            return feeds.current_numbers(connection, {feed.key for feed in estate.feeds})

    # --- generations ---

    @staticmethod
    def _current(connection: sqlite3.Connection, estate: Estate) -> dict[str, Generation]:
        return feeds.current_generations(connection, {feed.key for feed in estate.feeds})

    @staticmethod
    def _of_kind(estate: Estate, current: Mapping[str, Generation], kind: str) -> dict[str, Generation]:
        keys = {feed.key for feed in estate.feeds if feed.kind == kind}
        return {key: one for key, one in current.items() if key in keys}

    def generation(self, feed: str, number: int | None) -> Generation | None:
        """One generation's figures."""
        with self._store.reading() as connection:
            return feeds.get_generation(connection, feed, number)

    def categories_of(self, generation: Generation | None) -> IndexFile | None:
        """The entries of a generation of categories, where its file is still there."""
        if generation is None or not self.artefacts.has(generation.digest):
            return None
        return IndexFile(self.artefacts.mapped(generation.digest))

    def files_in_force(self, estate: Estate) -> dict[str, IndexFile]:
        """The entries in force of each feed of categories."""
        with self._store.reading() as connection:
            current = self._of_kind(estate, self._current(connection, estate), "categories")
        files = {key: self.categories_of(one) for key, one in current.items()}
        return {key: file for key, file in files.items() if file is not None}

    def indicators_of(self, generation: Generation | None) -> FeedIndicators:
        """The indicators of a generation; none where its file is gone."""
        if generation is None or not self.artefacts.has(generation.digest):
            return FeedIndicators()
        return FeedIndicators.of(self.artefacts.path(generation.digest).read_bytes())

    def programs_of(self, generation: Generation | None) -> FeedPrograms:
        """The programs of a generation; none where its file is gone."""
        if generation is None or not self.artefacts.has(generation.digest):
            return FeedPrograms()
        return FeedPrograms.of(self.artefacts.path(generation.digest).read_bytes())

    def contents_of(self, generation: Generation | None) -> Mapping[str, tuple[Rule, ...]]:
        """The rules of a generation, by the kind of ruleset that they belong in."""
        return by_kind(self.indicators_of(generation).rules())

    def tidy(self) -> None:
        """Drop the files that nothing needs any more."""
        with self._store.reading() as connection:
            wanted = feeds.wanted_digests(connection, KEPT_GENERATIONS)
        wanted.update(file.digest for file in self.held.kept.parts.files)
        self.artefacts.drop_others(wanted)

    # --- the category index ---

    def open_index(self, parts: CategoryParts) -> LayeredIndex:
        """An index, mapped."""
        base, *rest = (IndexFile(self.artefacts.mapped(file.digest)) for file in parts.files)
        return LayeredIndex(parts.digest, base, rest[0] if rest else None)

    def make_index(
        self, estate: Estate, current: Mapping[str, Generation], now: float, before: IndexRecord | None
    ) -> IndexRecord:
        """The index of these generations today: what differs from the base in force, or a new base.

        Without any generation of categories it is the small one that ships.
        """
        day, days = moment(now).date(), estate.settings.newly_registered_days
        sources = self._of_kind(estate, current, "categories")
        numbers = {source.feed: source.number for source in sources.values()}
        parts = self._difference(before, sources, day, days) if before is not None else None
        return IndexRecord(parts or self._base(sources, day, days), now, day.toordinal(), numbers)

    def _entries(
        self, sources: Mapping[str, Generation], day: date, days: int
    ) -> Iterator[tuple[str, tuple[str, ...]]]:
        if not sources:
            yield from read_index(SHIPPED_INDEX.read_bytes()).items()
            return
        files = [self.categories_of(source) for source in sources.values()]
        feeds_entries = [_feed_entries(file) for file in files if file is not None]
        yield from joined(feeds_entries, day.toordinal(), days)

    def _base(self, sources: Mapping[str, Generation], day: date, days: int) -> CategoryParts:
        digest, size, hosts = self.artefacts.make(lambda out: write_index(out, self._entries(sources, day, days)))
        return CategoryParts(1, CategoryPart(digest, size, hosts), None, hosts, days)

    def _difference(
        self, before: IndexRecord, sources: Mapping[str, Generation], day: date, days: int
    ) -> CategoryParts | None:
        """The base as it is with what differs; None where that is too much."""
        base = before.parts.base
        most = max(FEW, int(base.hosts * MOST_DIFFERENT))
        hosts = count()

        def differing() -> Iterator[tuple[str, tuple[str, ...]]]:
            number = 0
            now_said = self._entries(sources, day, days)
            for host, old, new in compared(IndexFile(self.artefacts.mapped(base.digest)).items(), now_said):
                if new is not None:
                    next(hosts)
                if old != new:
                    number += 1
                    if number > most:
                        raise _TooDifferent
                    yield host, new or ()

        def write(out: BinaryIO) -> int:
            return write_index(out, differing())

        try:
            digest, size, number = self.artefacts.make(write)
        except _TooDifferent:
            return None
        difference = CategoryPart(digest, size, number) if number else None
        return CategoryParts(1, base, difference, next(hosts), days)


def _feed_entries(file: IndexFile) -> Iterator[tuple[str, FeedEntry]]:
    for host, value in file.items():
        yield host, FeedEntry(*value)
