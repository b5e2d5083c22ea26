"""Fetching from outside: only from the address that a keeper configured, within bounds of time and size."""

from __future__ import annotations

import socket
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from ipaddress import ip_address
from urllib.parse import urljoin

import httpx

from portero import __version__
from portero.core.nouns.feed import FeedCredential
from portero.core.nouns.urls import BadUrl, parse_visit

MAX_REDIRECTS = 5


class FetchProblem(RuntimeError):
    """The source could not be read; the message says why, and what to do where something can be done."""


@dataclass(frozen=True)
class Bounds:
    """How long and how much may be read."""

    quiet_seconds: float = 30.0
    """How long the source may say nothing."""
    total_seconds: float = 1_800.0
    bytes: int = 1_000_000_000


@dataclass
class Source:
    """One source: its address, with what it is fetched, and whether it may be on a private network."""

    address: str
    credential: FeedCredential | None = None
    private_network: bool = False
    bounds: Bounds = Bounds()
    _until: float = field(init=False, default=0.0)

    def __post_init__(self) -> None:
        self._until = time.monotonic() + self.bounds.total_seconds

    @contextmanager
    def reading(self, url: str, headers: Mapping[str, str] | None = None) -> Iterator[httpx.Response]:
        """An answer whose body has not been read yet; redirects on the same host are followed. FetchProblem."""
        with httpx.Client(timeout=self.bounds.quiet_seconds, trust_env=False, auth=self._auth()) as http:
            try:
                answer = self._follow(http, url, dict(headers or {}))
                try:
                    yield answer
                finally:
                    answer.close()
            except httpx.TimeoutException as problem:
                raise FetchProblem(
                    f"{self._host} said nothing for {self.bounds.quiet_seconds:.0f} seconds; it will be asked again"
                ) from problem
            except httpx.HTTPError as problem:
                raise FetchProblem(f"{self._host} broke off: {problem or type(problem).__name__}") from problem

    def chunks(self, answer: httpx.Response) -> Iterator[bytes]:
        """The body as it comes. FetchProblem where it is too long, too slow, or cut off."""
        total = 0
        # as it comes: what is gathered into bigger pieces hides how slowly it comes
        for chunk in answer.iter_raw():
            total += len(chunk)
            if total > self.bounds.bytes:
                raise FetchProblem(
                    f"{self._host} sends more than {self.bounds.bytes // 1_000_000:,} MB, which is more than is read"
                )
            self._hurry()
            yield chunk

    def _auth(self) -> httpx.Auth | None:
        if self.credential is None or self.credential.user is None:
            return None
        return httpx.BasicAuth(self.credential.user, self.credential.password or "")

    @property
    def _host(self) -> str:
        return parse_visit(self.address).host

    def _hurry(self) -> None:
        if time.monotonic() > self._until:
            raise FetchProblem(
                f"{self._host} took longer than {self.bounds.total_seconds:.0f} seconds; it was given up"
            )

    def _follow(self, http: httpx.Client, url: str, headers: dict[str, str]) -> httpx.Response:
        for _ in range(MAX_REDIRECTS + 1):
            self._hurry()
            answer = http.send(self._request(http, url, headers), stream=True)
            if not answer.has_redirect_location:
                return answer
            target = urljoin(url, answer.headers.get("location", ""))
            answer.close()
            self._refuse_elsewhere(url, target)
            url = target
        raise FetchProblem(f"{self._host} redirects more than {MAX_REDIRECTS} times")

    def _refuse_elsewhere(self, url: str, target: str) -> None:
        try:
            here, there = parse_visit(url), parse_visit(target)
        except BadUrl as problem:
            raise FetchProblem(f"{self._host} redirects to what is no address") from problem
        if there.host != self._host or httpx.URL(there.url).port != httpx.URL(here.url).port:
            raise FetchProblem(
                f"{self._host} redirects to {there.host}, which is not where this feed is configured to be; if that is"
                " right, make it the feed's address"
            )
        if here.scheme == "https" and there.scheme != "https":
            raise FetchProblem(f"{self._host} redirects from https to http, which is refused")

    def _request(self, http: httpx.Client, url: str, headers: dict[str, str]) -> httpx.Request:
        """To the very address that was looked at: a name that resolves otherwise a moment later is no way in."""
        asked = httpx.URL(url)
        address = self._resolved(asked)
        sent = {**headers, "Host": asked.netloc.decode(), "User-Agent": f"portero/{__version__}"}
        if self.credential is not None and self.credential.token is not None:
            sent["Authorization"] = f"Bearer {self.credential.token}"
        to = asked.copy_with(host=address)
        return http.build_request("GET", to, headers=sent, extensions={"sni_hostname": asked.host})

    def _resolved(self, url: httpx.URL) -> str:
        try:
            found = socket.getaddrinfo(
                url.host, url.port or (443 if url.scheme == "https" else 80), type=socket.SOCK_STREAM
            )
        except OSError as problem:
            raise FetchProblem(f"{url.host} is not known to this machine's name service") from problem
        addresses = [str(address[4][0]) for address in found]
        for address in addresses:
            if not ip_address(address.partition("%")[0]).is_global and not self.private_network:
                raise FetchProblem(
                    f"{url.host} is at {address}, which is no public address; if the feed is on your own network, say"
                    " so with “private_network”"
                )
        return addresses[0]
