"""From one merged list to what a browser is handed: needless patterns left out, translated, cut to what it takes."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from portero.core.browsers import for_chromium, for_firefox
from portero.core.browsers.chromium import ChromiumLists
from portero.core.browsers.firefox import FirefoxLists
from portero.core.browsers.lists import Changed, Lists, Translation
from portero.core.browsers.needless import Listed, needless
from portero.core.nouns.coverage import BrowserFamily
from portero.core.nouns.urls import Visit


class _Family(NamedTuple):
    translate: Callable[[Sequence[Listed], Sequence[int]], Translation]
    lists: Callable[[Sequence[str], Sequence[str], int], Lists]


_FAMILIES: dict[BrowserFamily, _Family] = {
    "chromium": _Family(for_chromium.translate, ChromiumLists),
    "firefox": _Family(for_firefox.translate, FirefoxLists),
}
UNLIMITED = 1_000_000
"""More entries than any list has."""


class Handed:
    """A merged list as one family of browsers is handed it. Patterns are named by their places in the merged list."""

    def __init__(self, listed: Sequence[Listed], family: BrowserFamily, limit: int = UNLIMITED) -> None:
        """`limit` is how many entries the browser takes of each of the two lists."""
        self.family, self.limit = family, limit
        left_out = needless(listed)
        made = _FAMILIES[family].translate(listed, [place for place in range(len(listed)) if place not in left_out])
        self.needless: Mapping[int, int | None] = {**left_out, **made.needless}
        """Those that are left out with the same outcome, and the one that says the same of all their pages."""
        self.changed = made.changed
        """Those that the browser cannot say as they are meant, and what it got instead."""
        self.blocks, self.block_places = _texts(made.blocks, limit)
        self.allows, self.allow_places = _texts(made.allows, limit)
        self.cut = tuple(sorted(place for entries in (made.blocks, made.allows) for _, place in entries[limit:]))
        """Those that the browser does not take any more."""
        self._lists = _FAMILIES[family].lists(self.blocks, self.allows, limit)

    @cached_property
    def said_otherwise(self) -> Mapping[int, Changed]:
        """Those of the changed ones that are not needless besides."""
        return {place: one for place, one in self.changed.items() if place not in self.needless}

    @property
    def left_out(self) -> int:
        """How many the browser cannot say and does not get at all."""
        return sum(one.got is None for one in self.said_otherwise.values())

    def matching(self, visit: Visit) -> Iterator[int]:
        """The places of those that hold a visit in this browser; the first one counts. With none, it passes."""
        for entry in self._lists.matching(visit):
            yield (self.allow_places if entry.allow else self.block_places)[entry.place]

    def entry_of(self, place: int) -> str | None:
        """What stands in the browser's list for a pattern; None where nothing does."""
        for texts, places in ((self.blocks, self.block_places), (self.allows, self.allow_places)):
            if place in places:
                return texts[places.index(place)]
        return None


def _texts(entries: Sequence[tuple[str, int]], limit: int) -> tuple[tuple[str, ...], tuple[int, ...]]:
    taken = entries[:limit]
    return tuple(text for text, _ in taken), tuple(place for _, place in taken)
