"""Site patterns: the open URL filter format of the Chromium project, `[scheme://][.]host[:port][/path][?query]`."""

from __future__ import annotations

import re
from typing import NamedTuple, Self

from portero.core.nouns.urls import Visit, address_of, default_port, normal_host

EVERYTHING = "*"
_SCHEME = re.compile(r"^([A-Za-z][A-Za-z0-9+.-]*)://")
_WEB = ("http", "https")


class Pattern(NamedTuple):
    """One pattern. Empty scheme, host, path or query stand for any; without `below` the host is itself alone."""

    scheme: str
    host: str
    below: bool
    port: int | None
    path: str
    query: tuple[str, ...]

    @classmethod
    def of(cls, text: str) -> Self:
        """Read a pattern. ValueError where a browser would take it for something else, or ignore it.

        What people commonly write and browsers do not take is read as it was meant: `*.host` as `host`, which covers
        all below it anyway, and a path that ends in `*` as that path.
        """
        told = text.strip()
        found = _SCHEME.match(told)
        scheme, rest = (found[1].lower(), told[found.end() :]) if found else ("", told)
        place, mark, tail = _split(rest)
        name, _, port = place.rpartition(":") if re.search(r":(\d+|\*)$", place) else (place, "", "")
        # what is no web scheme has no web host either; browsers take such patterns, and no visit meets them
        host, below = _host(name, text) if scheme in ("", *_WEB) else (name.lower().strip("*"), True)
        path, _, query = (mark + tail).partition("?")
        if "#" in path or "@" in place:
            raise ValueError(f"“{text[:80]}”: a site pattern has no user and no fragment; leave them out")
        path = path.rstrip("*") if path.endswith("*") else path
        return cls(scheme, host, below, _port(port, text), "" if path == "/" else path, _tokens(query))

    def __str__(self) -> str:
        if self == _ALL:
            return EVERYTHING
        scheme = f"{self.scheme}://" if self.scheme else ""
        host = ("" if self.below else ".") + self.host if self.host else EVERYTHING
        port = f":{self.port}" if self.port else ""
        query = "?" + "&".join(self.query) if self.query else ""
        return f"{scheme}{host}{port}{self.path or ('/' if query else '')}{query}"

    def matches(self, visit: Visit, port: int, path: str, query: str) -> bool:
        """Whether it holds a visit, given with its port, raw path and raw query."""
        if self.scheme and self.scheme != visit.scheme:
            return False
        if self.port is not None and self.port != port:
            return False
        if not self._holds_host(visit.host):
            return False
        return path.startswith(self.path) and _has_tokens(self.query, query.split("&"))

    def _holds_host(self, host: str) -> bool:
        return not self.host or host == self.host or (self.below and host.endswith(f".{self.host}"))

    def inside(self, other: Pattern) -> bool:
        """Whether all that it matches, the other matches too."""
        return (
            other.scheme in ("", self.scheme)
            and other.port in (None, self.port)
            and (not other.host or (bool(self.host) and self._host_inside(other)))
            and self.path.startswith(other.path)
            and set(other.query) <= set(self.query)
        )

    def _host_inside(self, other: Pattern) -> bool:
        if self.host == other.host:
            return other.below or not self.below
        return other.below and self.host.endswith(f".{other.host}")

    @property
    def precedence(self) -> tuple[bool, bool, int, int, int]:
        """Sorts patterns as browsers weigh them: the more specific one is smaller."""
        return (not self.host, self.below, -len(self.host), -len(self.path), -len(self.query))


_ALL = Pattern("", "", True, None, "", ())


def _split(rest: str) -> tuple[str, str, str]:
    found = re.search(r"[/?]", rest)
    return (rest[: found.start()], found[0], rest[found.end() :]) if found else (rest, "", "")


def _host(name: str, text: str) -> tuple[str, bool]:
    if name in (EVERYTHING, ""):
        if not name and text.strip() != EVERYTHING:
            raise ValueError(f"“{text[:80]}” names no host; write * for every one")
        return "", True
    below = not name.startswith(".")
    bare = name.removeprefix("*.") if below else name[1:]
    if bare.startswith("[") or (bare[-1:].isdigit() and address_of(bare)):
        return bare.lower(), below
    if "*" in bare:
        raise ValueError(f"“{text[:80]}”: browsers take * only as the whole host; name the host that all are below")
    try:
        return normal_host(bare), below
    except ValueError as problem:
        raise ValueError(f"“{text[:80]}” is not a site pattern: {problem}") from problem


def _port(port: str, text: str) -> int | None:
    if port in ("", EVERYTHING):
        return None
    if not 0 < int(port) < 65536:
        raise ValueError(f"“{text[:80]}”: {port} is not a port")
    return int(port)


def _tokens(query: str) -> tuple[str, ...]:
    return tuple(token for token in query.split("&") if token)


def _has_tokens(wanted: tuple[str, ...], given: list[str]) -> bool:
    return all(any(_is_token(piece, other) for other in given) for piece in wanted)


def _is_token(wanted: str, given: str) -> bool:
    if wanted.endswith(EVERYTHING):
        return given.startswith(wanted[:-1])
    return given == wanted or ("=" not in wanted and given.partition("=")[0] == wanted)


def normal_pattern(text: str) -> str:
    """The pattern in its usual form. ValueError where it is none."""
    return str(Pattern.of(text))


def port_of(visit: Visit) -> int:
    """The port that a visit goes to."""
    return visit.rest.port or default_port(visit.scheme)
