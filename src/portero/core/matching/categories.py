"""Host → web categories: the nearest entry at or above a host, corrections over feeds, test hosts over both."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple, Protocol

from portero.core.nouns.taxonomy import UNCATEGORISED
from portero.core.nouns.web_taxonomy import TAXONOMY


class HostTable(Protocol):
    """A table of hosts. An implementation may hold a handful in a dict or millions in a mapped file."""

    def get(self, host: str) -> tuple[str, ...] | None:
        """The categories entered at this very host, or None."""


class CategoryIndex(HostTable, Protocol):
    """The table that counts, by the name of what it was made of."""

    digest: str


class Entry(NamedTuple):
    """What is known about a host: its categories, the host they are entered at, and by whom."""

    categories: tuple[str, ...]
    host: str | None
    source: str


class MemoryIndex:
    """A category index held in a dict: host → categories."""

    def __init__(self, entries: Mapping[str, tuple[str, ...]], digest: str = "") -> None:
        self.digest = digest
        self._entries = entries

    def get(self, host: str) -> tuple[str, ...] | None:
        return self._entries.get(host)

    def __len__(self) -> int:
        return len(self._entries)

    def items(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        """All hosts with their categories, in order."""
        return iter(sorted(self._entries.items()))


class LayeredIndex:
    """A big index that stays, and on top of it a small one of what is different since: no categories means none now."""

    def __init__(self, digest: str, base: HostTable, difference: HostTable | None = None) -> None:
        self.digest = digest
        self.base, self.difference = base, difference

    def get(self, host: str) -> tuple[str, ...] | None:
        if self.difference is not None:
            found = self.difference.get(host)
            if found is not None:
                return found or None
        return self.base.get(host)


EMPTY_INDEX = MemoryIndex({})
_UNKNOWN = Entry((UNCATEGORISED,), None, "none")


def look_up(host: str, index: CategoryIndex, corrections: Mapping[str, tuple[str, ...]]) -> Entry:
    """The host's categories, from the nearest entry at or above it; `uncategorised` where there is none."""
    if host.endswith(".test"):
        test = TAXONOMY.category_of_test_host(host)
        if test:
            return Entry((test,), TAXONOMY.categories[test].test_host, "test host")
    name, dot, get = host, -1, index.get
    while True:
        if corrections and name in corrections:
            return Entry(corrections[name], name, "correction")
        found = get(name)
        if found is not None:
            return Entry(found, name, "index")
        dot = host.find(".", dot + 1)
        if dot < 0:
            return _UNKNOWN
        name = host[dot + 1 :]
