"""The filter layer: an HTTP forward proxy on loopback. It shows notices over http and refuses tunnels over https."""

from __future__ import annotations

import asyncio
import socket
import time
from collections.abc import AsyncIterator, Callable, Iterable, Mapping
from contextlib import suppress
from ipaddress import ip_address
from typing import NamedTuple
from urllib.parse import parse_qs

import h11
import httpx

from portero.core.nouns.action import Verdict
from portero.core.nouns.rule import normal_media_type
from portero.core.nouns.urls import BadUrl, UrlRequest, Visit, normal_address, parse_authority, parse_whole
from portero.endpoint.agent import Agent, AgentRuling
from portero.endpoint.notice import NOTICE_HOST, notice_page

CONTINUE_SECONDS = 600.0
"""How long a person who went on past a warning is not asked again for the same host."""
MAX_HEAD = 64 * 1024
IDLE_SECONDS = 60.0
_CHUNK = 65_536
_HTML = "text/html; charset=utf-8"
_HOP_BY_HOP = {
    *("connection", "keep-alive", "proxy-authenticate", "proxy-authorization", "proxy-connection"),
    *("te", "trailer", "transfer-encoding", "upgrade", "expect", "host"),
}
_HERE = "The filter leads to no address of this machine itself; go there without the proxy."


class Origin(NamedTuple):
    """Where allowed visits go instead of to the host itself: ports on loopback for http and https."""

    http: int
    https: int


class OwnPage(NamedTuple):
    """What a filter answers itself: the status, what comes back, and headers."""

    status: int
    body: bytes
    headers: Mapping[str, str] = {}


class _Place(NamedTuple):
    scheme: str
    host: str
    port: int


class LeadsHere(Exception):
    """It would be fetched from this very machine."""


Headers = list[tuple[str, str]]


class Filter:
    """The proxy of one endpoint."""

    def __init__(
        self,
        agent: Agent,
        *,
        user: str | None = None,
        origin: Origin | None = None,
        records: bool = True,
        own_page: Callable[[Visit], OwnPage | None] = lambda _visit: None,
    ) -> None:
        """`records` is False for one that only tries: nothing that goes through it is activity. `own_page` has what it
        answers itself, and rules on nothing of it.
        """
        self.warned: set[str] = set()
        """Of which hosts it has warned since that was last cleared; of one that only tries."""
        self._agent, self._user, self._origin, self._records = agent, user, origin, records
        self.own_page = own_page
        agent.meet(user)
        self._permits: dict[str, float] = {}
        self._warned: dict[str, AgentRuling] = {}
        self._http = httpx.AsyncClient(trust_env=False, follow_redirects=False, timeout=30.0)

    async def start(self, port: int) -> asyncio.Server:
        """Listen on loopback."""
        return await asyncio.start_server(self._serve, "127.0.0.1", port, limit=MAX_HEAD)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(ConnectionError, TimeoutError, asyncio.IncompleteReadError, h11.ProtocolError, httpx.HTTPError):
            await _Connection(self, reader, writer).run()
        with suppress(ConnectionError):
            writer.close()
            await writer.wait_closed()

    def judge(self, url: str, browser: str | None, *, page: bool = True) -> AgentRuling:
        """Rule on a visit and record it. A person who went on past the warning is let through. What is allowed and may
        still be stopped by the type of what comes back is recorded by `judge_answer`.
        """
        ruling = self._agent.rule(url, self._user, page=page)
        if page and ruling.verdict is Verdict.ALLOW and self._agent.looks_at_types:
            return ruling
        return self._recorded(ruling, browser)

    def judge_answer(self, ruling: AgentRuling, browser: str | None, content_type: str | None) -> AgentRuling:
        """Rule again on a visit that was allowed, by the type of what came back, and record it."""
        if not self._agent.looks_at_types:
            return ruling
        media_type = None
        with suppress(ValueError):
            media_type = normal_media_type(content_type) if content_type else None
        return self._recorded(self._agent.rule(ruling.url, self._user, media_type=media_type), browser)

    def _recorded(self, ruling: AgentRuling, browser: str | None) -> AgentRuling:
        continued = ruling.verdict is Verdict.WARN and self._permits.get(ruling.host, 0) > time.monotonic()
        if self._records:
            self._agent.record(ruling, user=self._user, browser=browser, continued=continued)
        if continued:
            return ruling._replace(verdict=Verdict.ALLOW)
        if ruling.verdict is Verdict.WARN and not self._records:
            self.warned.add(ruling.host)
        if ruling.verdict is Verdict.WARN and ruling.reference:
            if len(self._warned) > 1000:
                self._warned.clear()
            self._warned[ruling.reference] = ruling
        return ruling

    def go_on(self, reference: str) -> str | None:
        """The person goes on past the warning with this reference; the URL to go to."""
        ruling = self._warned.pop(reference, None)
        if ruling is None:
            return None
        self._permits[ruling.host] = time.monotonic() + CONTINUE_SECONDS
        return ruling.url

    def notice(self, ruling: AgentRuling) -> bytes:
        """The notice page."""
        return notice_page(ruling, self._agent.facts.hostname).encode()

    async def _places(self, asked: UrlRequest, tunnel: bool) -> list[_Place]:
        """Where to connect to, looked up once: what was looked at is what is connected to. LeadsHere, OSError."""
        if _is_here(asked.host):
            raise LeadsHere(asked.host)
        if self._origin:
            return [_Place("http", "127.0.0.1", self._origin.https if tunnel else self._origin.http)]
        loop = asyncio.get_running_loop()
        found = await loop.getaddrinfo(asked.host, asked.port, type=socket.SOCK_STREAM)
        addresses = [str(address[4][0]) for address in found]
        if any(map(_is_here, addresses)):
            raise LeadsHere(asked.host)
        return [_Place(asked.scheme, address, asked.port) for address in addresses]

    async def connect(self, asked: UrlRequest) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        """A connection to the host of a tunnel, or to the origin that stands in for it. LeadsHere, OSError."""
        problem: OSError | None = None
        for place in await self._places(asked, tunnel=True):
            try:
                return await asyncio.open_connection(place.host, place.port)
            except OSError as this:
                problem = this
        raise problem or OSError("no address")

    async def fetch(
        self, method: str, asked: UrlRequest, headers: Headers, body: AsyncIterator[bytes] | None
    ) -> httpx.Response:
        """The answer to an allowed visit, its body not read yet: of the URL that was judged, whatever else the request
        says. LeadsHere, OSError, httpx.HTTPError.
        """
        places = await self._places(asked, tunnel=False)
        sent = [("Host", asked.authority), *headers]
        how = {"target": asked.target.encode(), "sni_hostname": asked.host}
        for number, place in enumerate(places, start=1):
            url = httpx.URL(scheme=place.scheme, host=place.host, port=place.port, path="/")
            try:
                request = httpx.Request(method, url, headers=sent, content=body, extensions=dict(how))
                return await self._http.send(request, stream=True)
            except (httpx.ConnectError, httpx.ConnectTimeout):
                if number == len(places):
                    raise
        raise OSError("no address")


def _is_here(host: str) -> bool:
    """Whether it is a name or an address of this very machine, which nobody reaches by way of the filter."""
    name = host.rstrip(".").lower()
    if name == "localhost" or name.endswith(".localhost"):
        return True
    try:
        address = ip_address(normal_address(host.partition("%")[0]))
    except ValueError:
        return False
    return address.is_loopback or address.is_unspecified


class _Connection:
    """One browser connection: requests one after another, or a tunnel."""

    def __init__(self, owner: Filter, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._owner, self._reader, self._writer = owner, reader, writer
        self._http = h11.Connection(h11.SERVER, max_incomplete_event_size=MAX_HEAD)

    async def _next(self) -> h11.Event | type[h11.NEED_DATA] | type[h11.PAUSED]:
        while True:
            event = self._http.next_event()
            if event is not h11.NEED_DATA:
                return event
            self._http.receive_data(await asyncio.wait_for(self._reader.read(_CHUNK), IDLE_SECONDS))

    async def _send(self, *events: h11.Event) -> None:
        for event in events:
            if (data := self._http.send(event)) is not None:
                self._writer.write(data)
        await self._writer.drain()

    async def run(self) -> None:
        try:
            while await self._one_request():
                pass
        except h11.RemoteProtocolError as problem:
            if self._http.our_state in (h11.IDLE, h11.SEND_RESPONSE):
                status = problem.error_status_hint or 400
                await self._plain(status, f"This is not HTTP as it should be: {problem}.", Connection="close")
            raise

    async def _one_request(self) -> bool:
        """Answer the next request; whether another may follow on the connection."""
        event = await self._next()
        if not isinstance(event, h11.Request):
            return False
        if event.method == b"CONNECT":
            await self._tunnel(event)
            return False
        await self._visit(event)
        if h11.MUST_CLOSE in (self._http.our_state, self._http.their_state):
            return False
        self._http.start_next_cycle()
        return True

    async def _plain(self, status: int, text: str, **more: str) -> None:
        await self._answer(status, text.encode(), "text/plain; charset=utf-8", **more)

    async def _answer(self, status: int, body: bytes, content_type: str = _HTML, **more: str) -> None:
        headers = [("Content-Type", content_type), ("Content-Length", str(len(body))), ("Cache-Control", "no-store")]
        headers += [(name.replace("_", "-"), value) for name, value in more.items()]
        await self._drop_body()
        await self._send(h11.Response(status_code=status, headers=headers), h11.Data(data=body), h11.EndOfMessage())

    async def _drop_body(self) -> None:
        while self._http.their_state is h11.SEND_BODY:
            if isinstance(await self._next(), h11.EndOfMessage):
                return

    async def _visit(self, request: h11.Request) -> None:
        try:
            visit = parse_whole(request.target.decode("latin-1"))
            if visit.host == NOTICE_HOST:
                await self._go_on(visit)
                return
            if (own := self._owner.own_page(visit)) is not None:
                await self._answer(own.status, own.body, **own.headers)
                return
            ruling = self._owner.judge(visit.url, _browser(request))
        except BadUrl as problem:
            await self._plain(400, str(problem))
            return
        if ruling.verdict is Verdict.ALLOW:
            # of the ruling, not of the request: what is fetched is what was judged
            await self._fetch(request, ruling)
        else:
            await self._answer(403, self._owner.notice(ruling))

    async def _go_on(self, visit: Visit) -> None:
        reference = parse_qs(visit.request.target.partition("?")[2]).get("reference", [""])[0]
        target = self._owner.go_on(reference)
        if target is None:
            await self._plain(404, "This notice is no longer open; go back and try again.")
        else:
            await self._answer(303, b"", Location=target)

    async def _fetch(self, request: h11.Request, ruling: AgentRuling) -> None:
        body, browser = self._body() if _has_body(request) else None, _browser(request)
        asked = parse_whole(ruling.url).request
        try:
            answer = await self._owner.fetch(request.method.decode(), asked, _passed_on(request.headers), body)
        except LeadsHere:
            self._owner.judge_answer(ruling, browser, None)
            await self._plain(403, _HERE)
            return
        except (httpx.HTTPError, OSError) as problem:
            self._owner.judge_answer(ruling, browser, None)
            await self._plain(502, f"The filter let this visit pass, but the site does not answer ({problem}).")
            return
        try:
            ruling = self._owner.judge_answer(ruling, browser, answer.headers.get("Content-Type"))
            if ruling.verdict is not Verdict.ALLOW:
                await self._answer(403, self._owner.notice(ruling))
                return
            await self._drop_body()
            await self._send(h11.Response(status_code=answer.status_code, headers=_passed_on(answer.headers.raw)))
            if request.method != b"HEAD":
                async for chunk in answer.aiter_raw():
                    await self._send(h11.Data(data=chunk))
            await self._send(h11.EndOfMessage())
        finally:
            await answer.aclose()

    async def _body(self) -> AsyncIterator[bytes]:
        if self._http.they_are_waiting_for_100_continue:
            await self._send(h11.InformationalResponse(status_code=100, headers=[]))
        while isinstance(event := await self._next(), h11.Data):
            yield bytes(event.data)

    async def _tunnel(self, request: h11.Request) -> None:
        try:
            asked = parse_authority(request.target.decode("latin-1"))
            ruling = self._owner.judge(asked.url, _browser(request), page=False)
        except BadUrl as problem:
            await self._plain(400, str(problem), Connection="close")
            return
        if ruling.verdict is Verdict.BLOCK:
            # the page cannot be shown inside a tunnel; a person who looks at the raw answer still learns why
            await self._answer(403, self._owner.notice(ruling), Connection="close")
            return
        try:
            reader, writer = await asyncio.wait_for(self._owner.connect(parse_whole(ruling.url).request), 20)
        except LeadsHere:
            await self._plain(403, _HERE, Connection="close")
            return
        except (OSError, TimeoutError):
            await self._plain(502, "The site does not answer.", Connection="close")
            return
        await self._send(h11.Response(status_code=200, headers=[]))
        early, _ = self._http.trailing_data
        writer.write(early)
        await asyncio.gather(_pump(self._reader, writer), _pump(reader, self._writer), return_exceptions=True)


def _has_body(request: h11.Request) -> bool:
    return any(
        name == b"transfer-encoding" or (name == b"content-length" and value != b"0") for name, value in request.headers
    )


def _passed_on(headers: Iterable[tuple[bytes, bytes]]) -> Headers:
    """The headers that go on: not those of this connection alone, and not what says where the request goes."""
    given = [(name.decode("latin-1"), value.decode("latin-1")) for name, value in headers]
    named = {word.strip().lower() for name, value in given if name.lower() == "connection" for word in value.split(",")}
    return [(name, value) for name, value in given if name.lower() not in _HOP_BY_HOP | named]


async def _pump(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    try:
        while data := await reader.read(_CHUNK):
            writer.write(data)
            await writer.drain()
    finally:
        with suppress(OSError, RuntimeError):
            writer.close()


def _browser(request: h11.Request) -> str | None:
    """The browser by what it calls itself: enough for a stand-in."""
    agent = next((value.decode("latin-1") for name, value in request.headers if name == b"user-agent"), "")
    for word, name in (("Chrom", "chromium"), ("Firefox", "firefox")):
        if word in agent:
            return name
    return None
