"""Which patterns of a list can be left out with the same outcome for every page."""

from __future__ import annotations

from bisect import bisect_left
from collections import defaultdict
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from portero.core.nouns.patterns import Pattern, hosts_above

MOST_COMPARED = 2_000_000
"""How many pairs of patterns are compared for one list. What was not looked at by then is kept."""


class Listed(NamedTuple):
    """A pattern of a merged list; and what becomes of it where a browser cannot say it."""

    pattern: Pattern
    allow: bool
    stricter: bool = False
    """It is read more strictly there; else it is left out."""


class Neighbours:
    """Finds, for a pattern of a list, those of the list that may match the same visits and count after it."""

    def __init__(self, listed: Sequence[Listed]) -> None:
        self._listed = listed
        self._paths: dict[tuple[bool, str], dict[str, list[int]]] = defaultdict(dict)
        for place, (pattern, _, _) in enumerate(listed):
            self._paths[pattern.below, pattern.host].setdefault(pattern.path, []).append(place)
        self._sorted = {host: sorted(paths) for host, paths in self._paths.items()}

    def order(self, place: int) -> tuple[object, ...]:
        """Sorts places as Chromium weighs patterns; of equal ones those that allow come first."""
        pattern, allow, _ = self._listed[place]
        return (pattern.weight, not allow, place)

    def after(self, place: int) -> list[int]:
        """Those that may match the same visits and count after it, the next first."""
        own = self.order(place)
        return sorted((other for other in self.above(place) if self.order(other) > own), key=self.order)

    def above(self, place: int) -> Iterator[int]:
        """Those that may match the same visits, of the same host or of one that it is below."""
        pattern = self._listed[place].pattern
        keys = [(True, host) for host in hosts_above(pattern.host)]
        for key in keys if pattern.below else ((False, pattern.host), *keys):
            for other in self._with_path(key, pattern.path):
                if other != place and pattern.may_meet(self._listed[other].pattern):
                    yield other

    def _with_path(self, host: tuple[bool, str], path: str) -> Iterator[int]:
        """Those at a host whose path is a beginning of a path, or begins with it."""
        paths = self._paths.get(host)
        if not paths:
            return
        for length in range(len(path)):
            yield from paths.get(path[:length], ())
        ordered = self._sorted[host]
        for at in range(bisect_left(ordered, path), len(ordered)):
            if not ordered[at].startswith(path):
                return
            yield from paths[ordered[at]]


def needless(listed: Sequence[Listed]) -> dict[int, int | None]:
    """The places of those that can be left out, each with the place of the one that says the same of all its pages.

    None where an allow has nothing to open: no pattern blocks what it names.
    """
    found: dict[int, int | None] = {}
    neighbours, left = Neighbours(listed), MOST_COMPARED
    for place, (pattern, allow, _) in enumerate(listed):
        after = neighbours.after(place)
        left -= len(after) + 1
        if left < 0:
            break
        for other in after:
            near = listed[other]
            if near.allow != allow:
                break
            if pattern.inside(near.pattern, allow, allow):
                found[place] = other
                break
        else:
            if allow:
                found[place] = None
    return found
