"""Firefox's website filter (`WebsiteFilter`: `Block`, `Exceptions`): which entry counts. Measured (tests/browsers)."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from typing import NamedTuple, Self

import ada_url

from portero.core.browsers.lists import ListEntry
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
        if host in ("*", "*."):
            return cls(scheme, "", True, glob)
        below = host.startswith("*.")
        host = host.removeprefix("*.")
        if not host or "*" in host or (":" in host and host[0] != "["):
            raise ValueError("of its host: a port and asterisks within it are not taken")
        if below and host[0] == "[":
            raise ValueError("nothing is below an address")
        return cls(scheme, host, below, glob)

    @property
    def weight(self) -> tuple[bool, int, int]:
        """Sorts entries for naming one: the narrower first. For Firefox all that match count alike."""
        return (self.below, -len(self.host), -len(self.glob))

    @property
    def test(self) -> Callable[[str], object]:
        """Tells whether its glob holds a path and query, in lower case."""
        first, last = self.glob.find("*"), len(self.glob) - 1
        if first == last:
            return partial(_begins, self.glob[:-1])
        if first < 0:
            return self.glob.__eq__
        return re.compile(".*".join(map(re.escape, re.split(r"\*+", self.glob))), re.DOTALL).fullmatch


def _begins(beginning: str, text: str) -> bool:
    return text.startswith(beginning)


class FilteredUrl(NamedTuple):
    """A visited URL as Firefox's filter compares it: in lower case, with escapes undone and slashes merged."""

    scheme: str
    host: str
    rest: str

    @classmethod
    def of(cls, visit: Visit) -> Self:
        """Path and query of it, without the fragment."""
        url = visit.url
        if "%" in url or url.find("//", len(visit.scheme) + 3) >= 0:
            url = _filtered(url)
        rest = url[len(visit.scheme) + 3 :].partition("#")[0].partition("/")[2]
        return cls(visit.scheme, visit.host, f"/{rest}".lower())


def _filtered(url: str) -> str:
    parsed = ada_url.URL(url)
    path, search = merged_path(parsed.pathname), _undone(parsed.search, _UNRESERVED)
    if path != parsed.pathname:
        parsed.pathname = path
    if search != parsed.search:
        parsed.search = search
    return str(parsed.href)


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
        self._exact: dict[str, list[_Row]] = defaultdict(list)
        self._below: dict[str, list[_Row]] = defaultdict(list)
        read = (*_read(exceptions[:limit], True), *_read(blocks[:limit], False))
        for pattern, entry in sorted(read, key=lambda one: (one[0].weight, one[1].place)):
            scheme = None if pattern.scheme == "*" else pattern.scheme
            (self._below if pattern.below else self._exact)[pattern.host].append(_Row(scheme, pattern.test, entry))

    def matching(self, visit: Visit) -> Iterator[ListEntry]:
        """The entries that hold a visit; the first one counts. Where there is none, it passes."""
        scheme, host, rest = FilteredUrl.of(visit)
        blocking = []
        rows = self._exact.get(host, ())
        while True:
            for own, test, entry in (*rows, *self._below.get(host, ())):
                if own in (None, scheme) and test(rest):
                    if entry.allow:
                        yield entry
                    else:
                        blocking.append(entry)
            if not host:
                break
            host, rows = host.partition(".")[2], ()
        yield from blocking


class _Row(NamedTuple):
    """An entry ready to be tried at its host; without a scheme it is for both."""

    scheme: str | None
    test: Callable[[str], object]
    entry: ListEntry


def _read(texts: Sequence[str], allow: bool) -> Iterator[tuple[MatchPattern, ListEntry]]:
    for place, text in enumerate(texts):
        try:
            yield MatchPattern.read(text), ListEntry(allow, place)
        except ValueError:
            # ignored by the browser
            continue
