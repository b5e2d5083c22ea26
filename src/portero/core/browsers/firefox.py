"""Firefox's website filter (`WebsiteFilter`: `Block`, `Exceptions`): which entry counts. Measured (tests/browsers)."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import NamedTuple, Self

import ada_url

from portero.core.browsers.lists import ListEntry
from portero.core.nouns.patterns import hosts_above
from portero.core.nouns.urls import Visit

ALL_URLS = "<all_urls>"
_FORM = re.compile(r"(\*|[a-z][a-z0-9+.-]*)://([^/]*)(/.*)", re.DOTALL)
_ESCAPE = re.compile(r"%[0-7][0-9a-f]", re.IGNORECASE)
_SLASHES = re.compile(r"[/\\]+")
_UNRESERVED = re.compile(r"[A-Za-z0-9_.~-]")


class MatchPattern(NamedTuple):
    """An entry as Firefox reads it: a match pattern in lower case. Without a host it is for any.

    The path is a glob over path and query, in which `*` stands for anything. Ports cannot be said.
    """

    scheme: str
    host: str
    below: bool
    glob: str

    @classmethod
    def read(cls, text: str) -> Self:
        """Read an entry. ValueError where Firefox ignores it."""
        if text.lower() == ALL_URLS:
            return cls("*", "", True, "/*")
        found = _FORM.fullmatch(text.lower())
        if found is None:
            raise ValueError("it is not of the form scheme://host/path")
        scheme, host, glob = found[1], found[2], found[3]
        if host == "*":
            return cls(scheme, "", True, glob)
        below = host.startswith("*.")
        host = host.removeprefix("*.")
        if not host or "*" in host or (":" in host and host[0] != "["):
            raise ValueError("of its host: a port and asterisks within it are not taken")
        return cls(scheme, host, below, glob)

    @property
    def weight(self) -> tuple[bool, int, int]:
        """Sorts entries for naming one: the narrower first. For Firefox all that match count alike."""
        return (self.below, -len(self.host), -len(self.glob))

    def holds_rest(self, seen: FilteredUrl) -> bool:
        """Whether it holds a visit, whose host it holds already."""
        return self.scheme in ("*", seen.scheme) and _globs(self.glob, seen.rest)


def _globs(glob: str, text: str) -> bool:
    if glob.find("*") in (-1, len(glob) - 1):
        return text.startswith(glob[:-1]) if glob[-1:] == "*" else text == glob
    return _compiled(glob).fullmatch(text) is not None


@lru_cache(maxsize=4_096)
def _compiled(glob: str) -> re.Pattern[str]:
    return re.compile(".*".join(map(re.escape, re.split(r"\*+", glob))), re.DOTALL)


class FilteredUrl(NamedTuple):
    """A visited URL as Firefox's filter compares it: in lower case, with escapes undone and slashes merged."""

    scheme: str
    host: str
    rest: str

    @classmethod
    def of(cls, visit: Visit) -> Self:
        """Path and query of it, without the fragment."""
        parsed = ada_url.URL(visit.url)
        path, search = merged_path(parsed.pathname), _undone(parsed.search, _UNRESERVED)
        if path != parsed.pathname:
            parsed.pathname = path
        if search != parsed.search:
            parsed.search = search
        _, mark, query = parsed.href.partition("#")[0].partition("?")
        return cls(visit.scheme, visit.host, (parsed.pathname + mark + query).lower())


_PRINTABLE = re.compile(r"[ -~]")


def merged_path(path: str) -> str:
    """A path with the escapes of all printable characters undone, and with single slashes."""
    return _SLASHES.sub("/", _undone(path, _PRINTABLE))


def _undone(text: str, which: re.Pattern[str]) -> str:
    def plain(found: re.Match[str]) -> str:
        character = chr(int(found[0][1:], 16))
        return character if which.match(character) else found[0]

    return _ESCAPE.sub(plain, text)


class FirefoxLists:
    """Both lists as Firefox has them: by host. An exception counts before whatever is blocked."""

    def __init__(self, blocks: Sequence[str], exceptions: Sequence[str], limit: int) -> None:
        """Each list is cut after `limit` entries, those that are ignored counted too."""
        self._hosts: dict[tuple[bool, str], list[tuple[MatchPattern, ListEntry]]] = {}
        for texts, allow in ((exceptions, True), (blocks, False)):
            for place, text in enumerate(texts[:limit]):
                self._add(ListEntry(allow, place), text)
        for entries in self._hosts.values():
            entries.sort(key=lambda one: (one[0].weight, one[1].place))

    def _add(self, entry: ListEntry, text: str) -> None:
        try:
            pattern = MatchPattern.read(text)
        except ValueError:
            return
        self._hosts.setdefault((pattern.below, pattern.host), []).append((pattern, entry))

    def matching(self, visit: Visit) -> Iterator[ListEntry]:
        """The entries that hold a visit; the first one counts. Where there is none, it passes."""
        seen = FilteredUrl.of(visit)
        found = list(self._holding(False, seen.host, seen))
        for host in hosts_above(seen.host):
            found += self._holding(True, host, seen)
        yield from (entry for entry in found if entry.allow)
        yield from (entry for entry in found if not entry.allow)

    def _holding(self, below: bool, host: str, seen: FilteredUrl) -> Iterator[ListEntry]:
        entries = self._hosts.get((below, host), ())
        return (entry for pattern, entry in entries if pattern.holds_rest(seen))
