"""Site patterns: the open URL filter format of the Chromium project, `[scheme://][.]host[:port][/path][?query]`.

How browsers read one is measured against the real ones (tests/browsers). What Portero takes is the part of it that can
hold a page; what people commonly write beside it is written anew as it was meant.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import NamedTuple, Self

import ada_url

from portero.core.nouns.urls import Visit, address_of, normal_host

EVERYTHING = "*"
_SCHEME = re.compile(r"^([A-Za-z][A-Za-z0-9+.-]*):")
_AUTHORITY_END = re.compile(r"[/\\?#]")
_PORT = re.compile(r"^\+?[0-9]{1,20}$")
_CONTROL = re.compile(r"[\x00-\x1f\x7f]")
_ANY_WEB = re.compile(r"^(\*|https?\*)://+", re.IGNORECASE)
_WEB = ("http", "https")
_STANDARD = frozenset((*_WEB, "ws", "wss", "ftp", "chrome", "chrome-untrusted", "chrome-search", "devtools"))
"""Schemes whose URLs have a host; of all others only `scheme:*` is a pattern."""
_FILE = "file"


class QueryToken(NamedTuple):
    """What a pattern wants of the query: a text that a piece of it has to begin with, and what has to follow there."""

    key: str
    value: str

    @classmethod
    def all_of(cls, query: str) -> Iterator[Self]:
        """The tokens of a pattern's query: `key`, `key=value`, or the beginning of one with `*` behind it."""
        for piece in query.split("&"):
            key, _, value = piece.partition("=")
            if value:
                yield cls(f"&{key}=", value[:-1] if value[-1] == "*" else f"{value}&")
            elif key:
                yield cls(f"&{key[:-1]}", "") if key[-1] == "*" else cls(f"&{key}", "&")

    def __str__(self) -> str:
        text = (self.key + self.value)[1:]
        return text[:-1] if self.value[-1:] == "&" else f"{text}*"

    def is_met(self, query: str, allow: bool) -> bool:
        """Whether a query, with `&` before and after it, meets it.

        A pattern that blocks needs one place, and one that allows needs all places that begin with the key.
        """
        at = query.find(self.key) if allow else query.find(self.key + self.value)
        met = at >= 0
        while allow and met and at >= 0:
            at += len(self.key)
            met, at = query.startswith(self.value, at), query.find(self.key, at)
        return met

    def is_implied_by(self, other: QueryToken, allow: bool, other_allows: bool) -> bool:
        """Whether every query that meets the other one, of a pattern that allows or blocks, meets this one."""
        if not allow or not self.value:
            return (other.key + other.value).startswith(self.key + self.value)
        return other_allows and other.key == self.key and other.value.startswith(self.value)


class SeenUrl(NamedTuple):
    """A visited URL in the parts that patterns look at; the query has `&` before and after it."""

    scheme: str
    host: str
    port: int
    path: str
    query: str

    @classmethod
    def of(cls, visit: Visit) -> Self:
        """As Chromium writes it: it escapes asterisks in hosts and bars in paths, which the URL standard leaves."""
        port, path, search = visit.behind_host
        if "|" in path:
            path = path.replace("|", "%7C")
        host = visit.host.replace("*", "%2A") if "*" in visit.host else visit.host
        # a lone question mark is a query with nothing in it
        query = f"&{search[1:]}&" if search not in ("", "?") else "&" * len(search)
        return cls(visit.scheme, host, port, path, query)


def hosts_above(host: str) -> Iterator[str]:
    """A host and all that it is below, the longest first; last the empty one, which stands for any."""
    while host:
        yield host
        host = "" if host[0] == "[" else host.partition(".")[2]
    yield ""


class Pattern(NamedTuple):
    """One pattern. Empty scheme or path stand for any, as does an empty host with all below it."""

    scheme: str
    host: str
    below: bool
    port: int | None
    path: str
    query: tuple[QueryToken, ...]

    @classmethod
    def read(cls, text: str) -> Self:
        """Read a text as Chromium does, whether or not it can hold a page. ValueError where Chromium ignores it."""
        text = text.strip()
        scheme, rest = _scheme_of(text)
        if scheme and rest in ("*", "//*"):
            return cls(scheme, "", True, None, "", ())
        if text[:1] in ("/", "~"):
            raise ValueError("it names a file")
        if scheme == _FILE and rest.startswith("///"):
            return cls(scheme, "", True, None, rest[2:], ())
        if scheme and scheme not in _STANDARD:
            raise ValueError(f"of {scheme}: they take only {scheme}:*")
        place, tail = _split(rest.lstrip("/\\"))
        host, port = _host_and_port(place.rpartition("@")[2])
        if not host:
            raise ValueError("it names no host")
        path, _, query = tail.partition("#")[0].partition("?")
        return cls(scheme, *_host_read(host), port, path, _ordered(query))

    @classmethod
    def of(cls, text: str) -> Self:
        """Read what people write, in the form in which it can hold a page. ValueError where it is no pattern."""
        told = text.strip()
        try:
            return cls(*_meant(told))
        except ValueError as problem:
            raise ValueError(f"“{told[:80]}” is not a site pattern: {problem}") from problem

    def __str__(self) -> str:
        if self == _ALL:
            return EVERYTHING
        scheme = f"{self.scheme}://" if self.scheme else ""
        alone = "" if self.below or _address(self.host) else "."
        host = alone + self.host if self.host else EVERYTHING
        if self.scheme == _FILE and self.path:
            host = ""
        port = f":{self.port}" if self.port else ""
        query = "?" + "&".join(map(str, self.query)) if self.query else ""
        return f"{scheme}{host}{port}{self.path}{query}"

    @property
    def weight(self) -> tuple[bool, int, int, int]:
        """Sorts patterns as browsers weigh them: of those that match, the one with the smallest counts."""
        return (self.below, -len(self.host), -len(self.path), -len(self.query))

    def holds(self, seen: SeenUrl, allow: bool) -> bool:
        """Whether it holds a visit, as a pattern that allows or as one that blocks."""
        return self._holds_host(seen.host) and self.holds_rest(seen, allow)

    def holds_rest(self, seen: SeenUrl, allow: bool) -> bool:
        """Whether it holds a visit, whose host it holds already."""
        return (
            seen.path.startswith(self.path)
            and self.scheme in ("", seen.scheme)
            and self.port in (None, seen.port)
            and (not self.query or all(token.is_met(seen.query, allow) for token in self.query))
        )

    def _holds_host(self, host: str) -> bool:
        return host == self.host or (self.below and (not self.host or host.endswith(f".{self.host}")))

    def inside(self, other: Pattern, allow: bool, other_allows: bool) -> bool:
        """Whether all that it matches, the other matches too, each as a pattern that allows or one that blocks."""
        return (
            other.scheme in ("", self.scheme)
            and other.port in (None, self.port)
            and other._takes_in(self)
            and self.path.startswith(other.path)
            and all(any(token.is_implied_by(own, other_allows, allow) for own in self.query) for token in other.query)
        )

    def _takes_in(self, other: Pattern) -> bool:
        """Whether it holds all hosts that the other one holds."""
        if not self.below or not other.host:
            return (self.host, self.below) in ((other.host, other.below), ("", True))
        return self._holds_host(other.host)

    def may_meet(self, other: Pattern) -> bool:
        """Whether there may be a visit that both match. Their queries do not keep them apart."""
        return (
            (self.scheme == other.scheme or "" in (self.scheme, other.scheme))
            and (self.port == other.port or None in (self.port, other.port))
            and (self._takes_in(other) or other._takes_in(self) or self.host == other.host)
            and (self.path.startswith(other.path) or other.path.startswith(self.path))
        )


_ALL = Pattern("", "", True, None, "", ())


# --- as Chromium reads it ---


def _scheme_of(text: str) -> tuple[str, str]:
    """The scheme that a text begins with, empty where it begins with none, and what comes behind its colon."""
    for told in (text, text.replace(";", ":", 1)):
        found = _SCHEME.match(told)
        if found is None or "." in found[1]:
            continue
        scheme, rest = found[1].lower(), told[found.end() :]
        behind = _split(rest)[0]
        if behind.isascii() and behind.isdigit():
            continue
        if told is text or scheme in _STANDARD:
            return scheme, rest
    return "", text


def _split(rest: str) -> tuple[str, str]:
    end = _AUTHORITY_END.search(rest)
    return (rest[: end.start()], rest[end.start() :]) if end else (rest, "")


def _host_and_port(place: str) -> tuple[str, int | None]:
    name, mark, port = place.rpartition(":")
    if not mark or "]" in port:
        return place, None
    if not port:
        return name, None
    if not _PORT.match(port) or not 0 < int(port) < 65536:
        raise ValueError(f"“{port[:20]}” is not a port")
    return name, int(port)


def _host_read(text: str) -> tuple[str, bool]:
    host = text.lower()
    if host == EVERYTHING:
        return "", True
    if host.startswith("."):
        return host[1:], False
    try:
        return host, _address(_as_browsers_write(host)) is None
    except ValueError:
        return host, False


def _as_browsers_write(host: str) -> str:
    written: str = ada_url.parse_url(f"http://{host}/", attributes=("hostname",))["hostname"]
    return written.rstrip(".")


def _address(host: str) -> str | None:
    return host if host[:1] == "[" or address_of(host) else None


def _ordered(query: str) -> tuple[QueryToken, ...]:
    return tuple(sorted(set(QueryToken.all_of(query))))


# --- as it was meant ---


@lru_cache(maxsize=65_536)
def _meant(told: str) -> Pattern:
    if _CONTROL.search(told):
        raise ValueError("it has a control character in it")
    text = _ANY_WEB.sub("", told)
    scheme, rest = _scheme_of(text)
    if scheme and scheme not in _WEB:
        return _of_other_scheme(scheme, text)
    if not scheme and text[:1] in ("/", "~", "\\"):
        raise ValueError("it names no host; write * for every one")
    place, tail = _split(rest.lstrip("/\\") if scheme else rest)
    place = place.rpartition("@")[2]
    name, port = _host_and_port(place.removesuffix(":*"))
    path, _, query = tail.partition("#")[0].partition("?")
    return Pattern(scheme, *_meant_host(name), port, _meant_path(path), _ordered(_meant_query(query)))


def _of_other_scheme(scheme: str, text: str) -> Pattern:
    """Browsers take such patterns, and no page of the web meets them."""
    if scheme == _FILE and text.partition(":")[2].rstrip("*") == "///":
        return Pattern(_FILE, "", True, None, "", ())
    if "@" in text and scheme not in _STANDARD:
        return _meant(text.partition("@")[2])
    return Pattern.read(text)


def _meant_host(name: str) -> tuple[str, bool]:
    if not name:
        raise ValueError("it names no host; write * for every one")
    if name == EVERYTHING:
        return "", True
    below = not name.startswith(".")
    bare = name.removeprefix("*.") if below else name[1:]
    if bare.startswith("."):
        raise ValueError("it begins with two dots; write one before a host that stands for itself alone")
    if "*" in bare:
        raise ValueError("browsers take * only as the whole host; name the host that all are below")
    try:
        written = _as_browsers_write(bare)
    except ValueError as problem:
        raise ValueError(f"“{bare[:60]}” is not a web host; write it like host.example") from problem
    if _address(written):
        return written, False
    return normal_host(bare.rstrip(".")), below


_KEPT = "~"
"""Behind a path that is parsed, so that its end stands for the beginning of what follows."""


def _meant_path(path: str) -> str:
    path = path.replace("\\", "/")
    path = path.rstrip(EVERYTHING) if path.endswith(EVERYTHING) else path
    if not path:
        return ""
    written: str = ada_url.parse_url(f"http://h{path}{_KEPT}", attributes=("pathname",))["pathname"]
    return written[:-1].replace("|", "%7C")


def _meant_query(query: str) -> str:
    return str(ada_url.parse_url(f"http://h/?{query}", attributes=("search",))["search"][1:]) if query else ""


def normal_pattern(text: str) -> str:
    """The pattern in its usual form. ValueError where it is none."""
    return str(Pattern.of(text))


class Rewriting(NamedTuple):
    """What was made of a pattern that was written in another form."""

    written: str
    handed: str
    same: bool
    """Browsers take what was written for the same."""
    why: str
    """Why they do not."""


def rewriting_of(text: str) -> Rewriting | None:
    """What is handed to browsers in place of a pattern's text; None where it is that text. ValueError."""
    told, meant = text.strip(), Pattern.of(text)
    if told == str(meant):
        return None
    try:
        same, why = Pattern.read(told) == meant, f"they would take it for {_shown(told)}"
    except ValueError as problem:
        same, why = False, f"they ignore it, as {problem}"
    return Rewriting(told, str(meant), same, "" if same else why)


def _shown(told: str) -> str:
    return "something that no page can be" if not _can_hold(Pattern.read(told)) else f"“{Pattern.read(told)}”"


def _can_hold(pattern: Pattern) -> bool:
    """Whether a page can match what Chromium read: only what is written as browsers write URLs can."""
    try:
        return pattern[1:] == Pattern.of(str(pattern))[1:]
    except ValueError:
        return False
