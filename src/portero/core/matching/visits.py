"""A URL as the filter sees it, by the WHATWG rules that browsers follow."""

from __future__ import annotations

from typing import NamedTuple

import ada_url


class Visit(NamedTuple):
    """The parts of a visited URL that rules look at."""

    url: str
    scheme: str
    host: str


_PARTS = ("href", "protocol", "hostname")
_SCHEMES = {"http:": "http", "https:": "https"}


class BadUrl(ValueError):
    """The text is not a URL that a browser would visit."""


def parse_visit(url: str) -> Visit:
    """Read a URL as a browser does (WHATWG URL). Without a scheme it is taken as http.

    The host comes back in lower case, IDN as punycode, IPv4 and IPv6 in their usual form, without the trailing
    dot. BadUrl where a browser would not visit it.
    """
    try:
        parts = ada_url.parse_url(url, attributes=_PARTS)
    except ValueError:
        return _without_scheme(url)
    scheme, host = _SCHEMES.get(parts["protocol"]), parts["hostname"]
    if scheme is None:
        return _without_scheme(url)
    if host[-1:] == ".":
        host = host.rstrip(".")
    if not host:
        raise BadUrl(f"“{url[:80]}” names no host; write it like https://host.example/path")
    return Visit(parts["href"], scheme, host)


def _without_scheme(url: str) -> Visit:
    """A host typed by itself, with or without a port, is visited over http."""
    text = url.strip()
    if "://" in text and not text.lower().startswith(("http://", "https://")):
        raise BadUrl(f"“{text[:80]}” is not visited over http or https, which is all the filter sees")
    try:
        parts = ada_url.parse_url("http://" + text, attributes=_PARTS)
    except ValueError as problem:
        raise BadUrl(f"“{url[:80]}” is not a URL; write it like https://host.example/path") from problem
    host = parts["hostname"].rstrip(".")
    if not host or text.lower().startswith(("http:", "https:")):
        raise BadUrl(f"“{url[:80]}” is not a URL; write it like https://host.example/path")
    return Visit(parts["href"], "http", host)
