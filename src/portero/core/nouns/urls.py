"""Web hosts and URLs by the WHATWG URL standard, as browsers read them, and the one form in which they are compared."""

from __future__ import annotations

import re
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network
from typing import Annotated, NamedTuple

import ada_url
from pydantic import AfterValidator, StringConstraints

_LABEL = re.compile(r"^[a-z0-9_-]{1,63}$")
_ESCAPE = re.compile(r"%([0-9A-Fa-f]{2})")
_UNRESERVED = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")
_AUTHORITY = re.compile(r"^(\[[0-9A-Fa-f:.]+\]|[^\[\]/?#@:\\\s]+):[0-9]{1,5}$")
_HREF = ("href",)
_DEFAULT_PORTS = {"http": 80, "https": 443}


class BadUrl(ValueError):
    """The text is not a URL that a browser would visit."""


class Visit(NamedTuple):
    """A visited URL: as a browser writes it, its scheme, and its host (IPv6 in brackets, no trailing dot)."""

    url: str
    scheme: str
    host: str

    @property
    def rest(self) -> Rest:
        """What comes behind the host, in the form in which it is compared."""
        port, path, query = self.behind_host
        own = None if port == _DEFAULT_PORTS[self.scheme] else port
        return Rest(own, normal_path(path), normal_query(query))

    @property
    def behind_host(self) -> tuple[int, str, str]:
        """The port that it goes to, and path and query as they stand in it, the query with its question mark."""
        authority, _, tail = self.url[len(self.scheme) + 3 :].partition("/")
        path, asks, query = tail.partition("#")[0].partition("?")
        _, mark, named = authority.rpartition(":")
        port = int(named) if mark and named.isdigit() else default_port(self.scheme)
        return port, f"/{path}", asks + query

    @property
    def request(self) -> UrlRequest:
        """What is asked of whom, to fetch this very URL and no other."""
        parts = ada_url.parse_url(self.url, attributes=("hostname", "port", "pathname", "search"))
        port = int(parts["port"]) if parts["port"] else default_port(self.scheme)
        host = parts["hostname"]
        authority = f"{host}:{port}" if parts["port"] else host
        return UrlRequest(self.scheme, host.strip("[]"), port, authority, parts["pathname"] + parts["search"])


class UrlRequest(NamedTuple):
    """How a URL is fetched (RFC 9110, 7): from its own serialisation (WHATWG URL), without user info and fragment.

    `host` is a name or an address, IPv6 without brackets; `authority` is what `Host` says; `target` is the path with
    the query.
    """

    scheme: str
    host: str
    port: int
    authority: str
    target: str

    @property
    def origin(self) -> tuple[str, str, int]:
        """Scheme, host and port: what is trusted together (RFC 6454)."""
        return self.scheme, self.host, self.port


class Rest(NamedTuple):
    """What comes behind a URL's host: a port that is not the scheme's own, the path, the query."""

    port: int | None
    path: str
    query: str


def parse_visit(url: str) -> Visit:
    """Read a URL as a browser does (WHATWG URL). Without a scheme it is taken as http.

    The host comes back in lower case, IDN as punycode, IPv4 and IPv6 in their usual form, without the trailing
    dot. BadUrl where a browser would not visit it.
    """
    try:
        href = ada_url.parse_url(url, attributes=_HREF)["href"]
    except ValueError:
        return _without_scheme(url)
    visit = _of_href(href)
    if visit is None:
        return _without_scheme(url)
    if not visit.host:
        raise BadUrl(f"“{url[:80]}” names no host; write it like https://host.example/path")
    return visit


def _of_href(href: str) -> Visit | None:
    """A URL as the standard serialises it, cut where its scheme and its host end; None where it is not of the web.

    Reading the whole at once costs a third of asking for it part by part.
    """
    if href.startswith("https://"):
        scheme, begin = "https", 8
    elif href.startswith("http://"):
        scheme, begin = "http", 7
    else:
        return None
    host = href[begin : href.index("/", begin)]
    if "@" in host:
        host = host[host.index("@") + 1 :]
    if ":" in host:
        host = host[: host.index("]") + 1] if host[0] == "[" else host[: host.index(":")]
    return Visit(href, scheme, host.rstrip(".") if host[-1:] == "." else host)


def parse_whole(url: str, base: str | None = None) -> Visit:
    """Read a URL that says its scheme, or one that is relative to a base. BadUrl where it is none of the web."""
    try:
        href = ada_url.join_url(base, url) if base else ada_url.normalize_url(url)
    except ValueError as problem:
        raise BadUrl(f"“{url[:80]}” is not a URL; write it like https://host.example/path") from problem
    visit = _of_href(href)
    if visit is None or not visit.host:
        raise BadUrl(f"“{url[:80]}” is not visited over http or https, which is all that is fetched")
    return visit


def parse_authority(text: str) -> Visit:
    """Read the host and port that a tunnel asks for (RFC 9110, 9.3.6), as an https URL. BadUrl."""
    if not _AUTHORITY.match(text):
        raise BadUrl(f"“{text[:80]}” is not a host and a port; write it like host.example:443")
    return parse_whole(f"https://{text}/")


def _without_scheme(url: str) -> Visit:
    """A host typed by itself, with or without a port, is visited over http."""
    text = url.strip()
    if "://" in text and not text.lower().startswith(("http://", "https://")):
        raise BadUrl(f"“{text[:80]}” is not visited over http or https, which is all the filter sees")
    try:
        visit = _of_href(ada_url.normalize_url("http://" + text))
    except ValueError as problem:
        raise BadUrl(f"“{url[:80]}” is not a URL; write it like https://host.example/path") from problem
    if visit is None or not visit.host or text.lower().startswith(("http:", "https:")):
        raise BadUrl(f"“{url[:80]}” is not a URL; write it like https://host.example/path")
    return visit


def default_port(scheme: str) -> int:
    """The port that a scheme uses where a URL names none."""
    return _DEFAULT_PORTS[scheme]


def _decoded(text: str) -> str:
    """Escapes of unreserved characters undone, the others in upper case (RFC 3986, 6.2.2)."""

    def plain(found: re.Match[str]) -> str:
        character = chr(int(found[1], 16))
        return character if character in _UNRESERVED else found[0].upper()

    return _ESCAPE.sub(plain, text) if "%" in text else text


def normal_path(path: str) -> str:
    """The path in the form in which it is compared: no trailing slash, unreserved escapes undone; the root is empty.

    Two slashes alone are the root too: nothing stands between them that could be written down.
    """
    normal = _decoded(path).removesuffix("/")
    return "" if normal == "/" else normal


def normal_query(search: str) -> str:
    """The query in the form in which it is compared; empty where there is none."""
    return _decoded(search.removeprefix("?"))


def address_of(host: str) -> str | None:
    """The address that a URL's host is, or None; a mapped IPv6 address counts as its IPv4 one."""
    if host[:1] != "[" and not host[-1:].isdigit():
        return None
    try:
        return normal_address(host.strip("[]"))
    except ValueError:
        return None


def normal_address(text: str) -> str:
    """The address in its usual form; a mapped IPv6 one as IPv4. ValueError where it is none."""
    parsed = ip_address(text)
    mapped = getattr(parsed, "ipv4_mapped", None)
    return str(mapped or parsed)


def normal_range(text: str) -> IPv4Network | IPv6Network:
    """An address or a range of them; mapped IPv6 as IPv4. ValueError where it is none."""
    try:
        network = ip_network(text.strip(), strict=False)
    except ValueError as problem:
        raise ValueError(
            f"“{text[:60]}” is not an address or a range of them; write it as in 203.0.113.7 or 203.0.113.0/24"
        ) from problem
    mapped = getattr(network.network_address, "ipv4_mapped", None)
    if mapped and network.prefixlen >= 96:
        return IPv4Network((mapped, network.prefixlen - 96))
    return network


def normal_host(text: str) -> str:
    """A web host as browsers write it: lower case, IDN as punycode, no trailing dot. ValueError where it is none.

    An address is no host here, however it is written.
    """
    told = text.strip()
    fault = f"“{told[:80]}” is not a web host; write it like host.example"
    if not told or any(sign in told for sign in "/\\?#@:[] \t\r\n"):
        hint = ", without scheme, port and path" if "/" in told or ":" in told else ""
        if told[:1] == "[" or _is_address(told):
            raise ValueError(f"“{told[:80]}” is an address; use “address” for it")
        raise ValueError(fault + hint)
    try:
        host: str = ada_url.parse_url(f"http://{told}/", attributes=("hostname",))["hostname"]
    except ValueError as problem:
        raise ValueError(fault) from problem
    host = host.removesuffix(".")
    if address_of(host):
        raise ValueError(f"“{told[:80]}” is an address; use “address” for it")
    if "*" in host:
        raise ValueError(f"“{told[:80]}” needs no “*”: a host covers all below it")
    if len(host) > 253 or not all(map(_LABEL.match, host.split("."))):
        raise ValueError(fault)
    return host


def normal_site(text: str) -> str:
    """A web host, or an address as it stands in a URL: IPv6 in brackets. ValueError where it is neither."""
    try:
        address = normal_address(text.strip().strip("[]"))
    except ValueError:
        return normal_host(text)
    return f"[{address}]" if ":" in address else address


def _is_address(text: str) -> bool:
    try:
        ip_address(text)
    except ValueError:
        return False
    return True


WebHost = Annotated[str, StringConstraints(min_length=1, max_length=400), AfterValidator(normal_host)]
"""A web host, as browsers write it."""


WebSite = Annotated[str, StringConstraints(min_length=1, max_length=400), AfterValidator(normal_site)]
"""A web host or an address, as it stands in a URL."""


class UrlPattern(NamedTuple):
    """A URL that a rule names: both schemes alike; no port means any; this path and, unless exact, all below it."""

    host: str
    port: int | None
    path: str
    query: str
    exact: bool

    @classmethod
    def of(cls, url: str, exact: bool = False) -> UrlPattern:
        """Read it. BadUrl where a browser would not visit it."""
        visit = parse_visit(url)
        port, path, query = visit.rest
        return cls(visit.host, port, path, query, exact or bool(query))

    @classmethod
    def read(cls, text: str, exact: bool) -> UrlPattern:
        """Read what `str` wrote."""
        place, _, tail = text.partition("/")
        host, port = place, ""
        if not place.endswith("]") and ":" in place:
            host, _, port = place.rpartition(":")
        path, _, query = tail.partition("?")
        return cls(host, int(port) if port else None, f"/{path}" if path else "", query, exact)

    def __str__(self) -> str:
        port = f":{self.port}" if self.port else ""
        return f"{self.host}{port}{self.path or '/'}" + (f"?{self.query}" if self.query else "")

    @property
    def is_whole_host(self) -> bool:
        """Whether it names a host, or a port of it, as a whole: no path and no query."""
        return not (self.path or self.query)

    @property
    def segments(self) -> int:
        """How many segments its path has."""
        return self.path.count("/")

    def matches(self, rest: Rest, scheme: str) -> bool:
        """Whether it holds a visit to its host."""
        if self.port is not None and self.port != (rest.port or default_port(scheme)):
            return False
        if self.exact:
            return rest.path == self.path and rest.query == self.query
        return rest.path == self.path or rest.path.startswith(self.path + "/")
