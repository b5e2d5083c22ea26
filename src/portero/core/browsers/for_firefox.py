"""The list for Firefox, whose match patterns know neither ports nor single pieces of a query.

Exceptions count before all that is blocked there, and paths are compared without regard to case. What cannot be said is
read more strictly, or left out: as the rule says, else by whether it is mandatory.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import ada_url

from portero.core.browsers.firefox import merged_path
from portero.core.browsers.lists import Changed, Translation, Unsayable
from portero.core.browsers.needless import Listed, Neighbours
from portero.core.nouns.patterns import Pattern

_WEB = ("", "http", "https")
_NOT_SAID = frozenset((Unsayable.PORT, Unsayable.QUERY, Unsayable.ASTERISK, Unsayable.SCHEME))
"""With these a pattern would hold more pages in Firefox than were meant."""


def translate(listed: Sequence[Listed], kept: Sequence[int]) -> Translation:
    """What Firefox is handed for those of a merged list that are kept, in its order."""
    return _Translator(listed, kept).translation()


class _Translator:
    def __init__(self, listed: Sequence[Listed], kept: Sequence[int]) -> None:
        self._listed = listed
        self._kept: dict[int, Pattern] = {}
        """Those that are handed over, each as Firefox compares it."""
        self._changed: dict[int, Changed] = {}
        self._needless: dict[int, int | None] = {}
        for place in kept:
            self._say(place)
        self._settle_narrower()
        self._leave_out_needless()

    def translation(self) -> Translation:
        entries = [(place, _entry(pattern)) for place, pattern in self._kept.items()]
        return Translation(
            blocks=[(text, place) for place, text in entries if not self._listed[place].allow],
            allows=[(text, place) for place, text in entries if self._listed[place].allow],
            changed=self._changed,
            needless=self._needless,
        )

    def _say(self, place: int) -> None:
        """Keep a pattern as it can be said, if it can."""
        pattern, allow, stricter = self._listed[place]
        reasons = tuple(_unsayable(pattern))
        said = _folded(pattern)
        if Unsayable.SCHEME in reasons or (not _NOT_SAID.isdisjoint(reasons) and (allow or not stricter)):
            self._changed[place] = Changed(reasons, None)
            return
        self._kept[place] = said
        if reasons:
            self._changed[place] = Changed(reasons, _entry(said))

    def _settle_narrower(self) -> None:
        """Exceptions always count: a block that is to count before one needs it gone, or is left out itself."""
        order = Neighbours(self._listed).order
        meeting: dict[int, list[int]] = {}
        for place, others in self._meeting().items():
            later = [one for one in others if self._listed[one].allow and order(one) > order(place)]
            if later and not self._listed[place].allow:
                meeting[place] = later
        for block, allows in meeting.items():
            for allow in allows if self._listed[block].stricter else ():
                self._drop(allow, Unsayable.NARROWER_BLOCK)
        for block, allows in meeting.items():
            left = [self._kept[allow] for allow in allows if allow in self._kept]
            if any(_covers(allow, self._kept[block]) for allow in left):
                self._drop(block, Unsayable.UNDER_ALLOW)
            elif left:
                self._note(block, Unsayable.UNDER_ALLOW, _entry(self._kept[block]))

    def _meeting(self) -> dict[int, list[int]]:
        """For each of those that are handed over the others that may match the same visits."""
        places = list(self._kept)
        near = Neighbours([Listed(self._kept[place], self._listed[place].allow) for place in places])
        found: dict[int, list[int]] = {place: [] for place in places}
        for own, place in enumerate(places):
            for other in near.above(own):
                found[place].append(places[other])
                found[places[other]].append(place)
        return found

    def _drop(self, place: int, reason: Unsayable) -> None:
        if self._kept.pop(place, None) is not None:
            self._note(place, reason, None)

    def _note(self, place: int, reason: Unsayable, got: str | None) -> None:
        before = self._changed[place].reasons if place in self._changed else ()
        self._changed[place] = Changed((*before, reason), got)

    def _leave_out_needless(self) -> None:
        """What a broader entry of the same list says already, and exceptions from nothing."""
        for place, others in self._meeting().items():
            wider = next((one for one in others if self._is_wider(one, place)), None)
            blocked = any(not self._listed[one].allow for one in others)
            if wider is not None or (self._listed[place].allow and not blocked):
                self._needless[place] = wider
        for place in self._needless:
            del self._kept[place]

    def _is_wider(self, other: int, place: int) -> bool:
        """Whether another one of the same list holds all that this one does; of two alike only the first does."""
        own, its = self._kept[place], self._kept[other]
        if self._listed[other].allow != self._listed[place].allow or not _covers(its, own):
            return False
        return other < place or not _covers(own, its)


def _unsayable(pattern: Pattern) -> Iterator[Unsayable]:
    """What of a pattern cannot be said in Firefox as it is meant."""
    if pattern.scheme not in _WEB:
        yield Unsayable.SCHEME
    if pattern.port is not None:
        yield Unsayable.PORT
    if pattern.query:
        yield Unsayable.QUERY
    if "*" in _path(pattern.path):
        yield Unsayable.ASTERISK
    if _path(pattern.path) != pattern.path:
        yield Unsayable.SPELLING
    if any(map(str.isalpha, pattern.path)):
        yield Unsayable.CASE


def _folded(pattern: Pattern) -> Pattern:
    """A pattern as Firefox compares it, without what it cannot say: an asterisk would stand for anything there."""
    return pattern._replace(port=None, query=(), path=_path(pattern.path).lower().partition("*")[0])


def _path(path: str) -> str:
    """A path as Firefox's filter compares it, its letters' case left."""
    if not path:
        return ""
    written = ada_url.URL("http://h/")
    written.pathname = merged_path(path + "~")
    return written.pathname[:-1]


def _covers(other: Pattern, pattern: Pattern) -> bool:
    return pattern.inside(other, allow=False, other_allows=False)


def _entry(pattern: Pattern) -> str:
    """The match pattern of a folded pattern."""
    scheme = pattern.scheme or "*"
    host = ("*." if pattern.below else "") + pattern.host if pattern.host else "*"
    return f"{scheme}://{host}{pattern.path or '/'}*"
