"""Chromium's managed lists of URLs (`URLBlocklist`, `URLAllowlist`): which entry counts. Measured (tests/browsers)."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from typing import Generic, TypeVar

from portero.core.browsers.lists import ListEntry
from portero.core.nouns.patterns import Pattern, SeenUrl
from portero.core.nouns.urls import Visit

Item = TypeVar("Item")


class PatternTable(Generic[Item]):
    """Patterns by their hosts, each with what it stands for; at a host those that count before others first."""

    def __init__(self, rows: Iterable[tuple[Pattern, bool, Item]]) -> None:
        """`rows` are patterns, whether each allows, and their items; of two that weigh the same the first is named."""
        self._exact: dict[str, list[tuple[Pattern, bool, Item]]] = defaultdict(list)
        self._below: dict[str, list[tuple[Pattern, bool, Item]]] = defaultdict(list)
        for row in rows:
            (self._below if row[0].below else self._exact)[row[0].host.strip(".")].append(row)
        for hosts in (self._exact, self._below):
            for found in hosts.values():
                found.sort(key=lambda row: (row[0].weight, not row[1]))

    def __bool__(self) -> bool:
        return bool(self._exact or self._below)

    def matching(self, seen: SeenUrl) -> Iterator[Item]:
        """Those that hold a visit, in the order in which they count."""
        host = seen.host
        rows = self._exact.get(host, ())
        while True:
            for pattern, allow, item in (*rows, *self._below.get(host, ())):
                if pattern.holds_rest(seen, allow):
                    yield item
            if not host:
                return
            host, rows = "" if host[0] == "[" else host.partition(".")[2], ()


class ChromiumLists:
    """Both lists as Chromium has them."""

    def __init__(self, blocks: Sequence[str], allows: Sequence[str], limit: int) -> None:
        """Each list is cut after `limit` entries, those that are ignored counted too."""
        self._table = PatternTable((*_read(allows[:limit], True), *_read(blocks[:limit], False)))

    def matching(self, visit: Visit) -> Iterator[ListEntry]:
        """The entries that hold a visit; the first one counts. Where there is none, it passes."""
        return self._table.matching(SeenUrl.of(visit))


def _read(texts: Sequence[str], allow: bool) -> Iterator[tuple[Pattern, bool, ListEntry]]:
    for place, text in enumerate(texts):
        try:
            yield Pattern.read(text), allow, ListEntry(allow, place)
        except ValueError:
            # ignored by the browser
            continue
