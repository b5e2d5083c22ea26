"""Fetching from outside: only from the address that a keeper configured, within bounds of time and size."""

from __future__ import annotations

import asyncio
import socket
import time
from base64 import b64encode
from collections.abc import AsyncIterator, Coroutine, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cached_property
from ipaddress import IPv6Address, IPv6Network, ip_address
from typing import Any, TypeVar

import httpx

from portero import __version__
from portero.core.nouns.feed import FeedCredential
from portero.core.nouns.urls import BadUrl, UrlRequest, Visit, parse_whole

Result = TypeVar("Result")

MAX_REDIRECTS = 5
_CARRYING = tuple(map(IPv6Network, ("64:ff9b::/96", "64:ff9b:1::/48", "2002::/16", "2001::/32", "::ffff:0:0/96")))
"""IPv6 addresses that carry an IPv4 one (RFC 6052, 8215, 3056, 4380, 4291): who is behind them, nobody here knows."""


class FetchProblem(RuntimeError):
    """The source could not be read; the message says why, and what to do where something can be done."""


def is_public(address: str) -> bool:
    """Whether it is an address of the open internet, and of one machine on it."""
    parsed = ip_address(address.partition("%")[0])
    if isinstance(parsed, IPv6Address) and (parsed.is_site_local or any(parsed in network for network in _CARRYING)):
        return False
    return parsed.is_global and not parsed.is_multicast


@dataclass(frozen=True)
class Bounds:
    """How long and how much may be read."""

    quiet_seconds: float = 30.0
    """How long the source may say nothing."""
    total_seconds: float = 1_800.0
    bytes: int = 1_000_000_000


@dataclass
class Source:
    """One source: its address, with what it is fetched, and whether it may be on a private network.

    All waiting is done in a loop of its own, as only there it can be broken off wherever it stands: at the name
    service, in the middle of a header, in a body that comes letter by letter.
    """

    address: str
    credential: FeedCredential | None = None
    private_network: bool = False
    bounds: Bounds = Bounds()
    _until: float = field(init=False, default=0.0)
    _runner: asyncio.Runner | None = field(init=False, default=None)

    def __post_init__(self) -> None:
        self._until = time.monotonic() + self.bounds.total_seconds

    @contextmanager
    def reading(self, url: str, headers: Mapping[str, str] | None = None) -> Iterator[httpx.Response]:
        """An answer whose body has not been read yet; redirects on the same host are followed. FetchProblem."""
        with asyncio.Runner() as self._runner:
            http = httpx.AsyncClient(timeout=self.bounds.quiet_seconds, trust_env=False)
            try:
                yield self._in_time(self._follow(http, self._visit(url), dict(headers or {})))
            except httpx.TimeoutException as problem:
                raise FetchProblem(
                    f"{self._host} said nothing for {self.bounds.quiet_seconds:.0f} seconds; it will be asked again"
                ) from problem
            except httpx.HTTPError as problem:
                raise FetchProblem(f"{self._host} broke off: {problem or type(problem).__name__}") from problem
            finally:
                self._runner.run(http.aclose())

    def chunks(self, answer: httpx.Response) -> Iterator[bytes]:
        """The body as it comes. FetchProblem where it is too long, too slow, or cut off."""
        total = 0
        # as it comes: what is gathered into bigger pieces hides how slowly it comes
        body = answer.aiter_raw()
        while (chunk := self._in_time(_next(body))) is not None:
            total += len(chunk)
            if total > self.bounds.bytes:
                raise FetchProblem(
                    f"{self._host} sends more than {self.bounds.bytes // 1_000_000:,} MB, which is more than is read"
                )
            yield chunk

    def _in_time(self, work: Coroutine[Any, Any, Result]) -> Result:
        """What the work comes to, within what is left of the time for all of it. FetchProblem."""

        async def bounded() -> Result:
            async with asyncio.timeout(max(0.0, self._until - time.monotonic())):
                return await work

        assert self._runner is not None
        try:
            return self._runner.run(bounded())
        except TimeoutError as problem:
            raise FetchProblem(
                f"{self._host} took longer than {self.bounds.total_seconds:.0f} seconds; it was given up"
            ) from problem

    @cached_property
    def _configured(self) -> UrlRequest:
        return self._visit(self.address).request

    @property
    def _host(self) -> str:
        return self._configured.host

    def _visit(self, url: str) -> Visit:
        try:
            return parse_whole(url)
        except BadUrl as problem:
            raise FetchProblem(f"{url[:80]} is no address on the web") from problem

    async def _follow(self, http: httpx.AsyncClient, visit: Visit, headers: dict[str, str]) -> httpx.Response:
        for _ in range(MAX_REDIRECTS + 1):
            answer = await http.send(await self._request(visit.request, headers), stream=True)
            if not answer.has_redirect_location:
                return answer
            await answer.aclose()
            visit = self._led_to(visit, answer.headers["location"])
        raise FetchProblem(f"{self._host} redirects more than {MAX_REDIRECTS} times")

    def _led_to(self, visit: Visit, location: str) -> Visit:
        """Where a redirect leads. FetchProblem where that is elsewhere."""
        try:
            target = parse_whole(location, visit.url)
        except BadUrl as problem:
            raise FetchProblem(f"{self._host} redirects to what is no address") from problem
        here, there = visit.request, target.request
        if here.scheme == "https" and there.scheme != "https":
            raise FetchProblem(f"{self._host} redirects from https to http, which is refused")
        # from http to https on the same host is the one step that leaves the origin
        allowed = (self._configured.origin, ("https", self._host, 443))
        if there.origin not in allowed:
            raise FetchProblem(
                f"{self._host} redirects to {there.authority}, which is not where this feed is configured to be; if"
                " that is right, make it the feed's address"
            )
        return target

    async def _request(self, asked: UrlRequest, headers: dict[str, str]) -> httpx.Request:
        """To the very address that was looked at: a name that resolves otherwise a moment later is no way in."""
        address = await self._resolved(asked)
        sent = {"Accept": "*/*", **headers, "Host": asked.authority, "User-Agent": f"portero/{__version__}"}
        if self.credential is not None and asked.origin == self._configured.origin:
            sent |= _authorization(self.credential)
        url = httpx.URL(scheme=asked.scheme, host=address, port=asked.port, path="/")
        how = {"target": asked.target.encode(), "sni_hostname": asked.host}
        return httpx.Request("GET", url, headers=sent, extensions=how)

    async def _resolved(self, asked: UrlRequest) -> str:
        loop = asyncio.get_running_loop()
        try:
            found = await loop.getaddrinfo(asked.host, asked.port, type=socket.SOCK_STREAM)
        except OSError as problem:
            raise FetchProblem(f"{asked.host} is not known to this machine's name service") from problem
        addresses = [str(address[4][0]) for address in found]
        for address in addresses:
            if not is_public(address) and not self.private_network:
                raise FetchProblem(
                    f"{asked.host} is at {address}, which is no public address; if the feed is on your own network,"
                    " say so with “private_network”"
                )
        return addresses[0]


async def _next(body: AsyncIterator[bytes]) -> bytes | None:
    return await anext(body, None)


def _authorization(credential: FeedCredential) -> dict[str, str]:
    """The header of a credential (RFC 6750, RFC 7617)."""
    if credential.token is not None:
        return {"Authorization": f"Bearer {credential.token}"}
    if credential.user is not None:
        pair = f"{credential.user}:{credential.password or ''}".encode()
        return {"Authorization": f"Basic {b64encode(pair).decode()}"}
    return {}
