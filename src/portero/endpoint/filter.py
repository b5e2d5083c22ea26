"""The filter layer: an HTTP forward proxy on loopback. It shows notices over http and refuses tunnels over https."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator
from contextlib import suppress
from typing import NamedTuple
from urllib.parse import parse_qs, urlsplit

import h11
import httpx

from portero.core.nouns.action import Verdict
from portero.core.nouns.urls import BadUrl
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
    *("te", "trailer", "transfer-encoding", "upgrade"),
}


class Origin(NamedTuple):
    """Where allowed visits go instead of to the host itself: ports on loopback for http and https."""

    http: int
    https: int


class Filter:
    """The proxy of one endpoint."""

    def __init__(self, agent: Agent, *, user: str | None = None, origin: Origin | None = None) -> None:
        self._agent, self._user, self._origin = agent, user, origin
        agent.meet(user)
        self._permits: dict[str, float] = {}
        self._warned: dict[str, AgentRuling] = {}
        self._http = httpx.AsyncClient(trust_env=False, follow_redirects=False, timeout=30.0)

    async def start(self, port: int) -> asyncio.Server:
        """Listen on loopback."""
        return await asyncio.start_server(self._serve, "127.0.0.1", port, limit=MAX_HEAD)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(ConnectionError, TimeoutError, asyncio.IncompleteReadError, h11.RemoteProtocolError):
            await _Connection(self, reader, writer).run()
        with suppress(ConnectionError):
            writer.close()
            await writer.wait_closed()

    def judge(self, url: str, browser: str | None, *, page: bool = True) -> AgentRuling:
        """Rule on a visit and record it. A person who went on past the warning is let through."""
        ruling = self._agent.rule(url, self._user, page=page)
        continued = ruling.verdict is Verdict.WARN and self._permits.get(ruling.host, 0) > time.monotonic()
        self._agent.record(ruling, user=self._user, browser=browser, continued=continued)
        if continued:
            return ruling._replace(verdict=Verdict.ALLOW)
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

    async def connect(self, host: str, port: int) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        """A connection to the host of a tunnel, or to the origin that stands in for it."""
        if self._origin:
            return await asyncio.open_connection("127.0.0.1", self._origin.https)
        return await asyncio.open_connection(host, port)

    def upstream(self, url: str) -> str:
        """The URL to fetch an allowed visit from."""
        if not self._origin:
            return url
        parts = urlsplit(url)
        return f"http://127.0.0.1:{self._origin.http}{parts.path or '/'}" + (f"?{parts.query}" if parts.query else "")

    @property
    def http(self) -> httpx.AsyncClient:
        """The client that fetches allowed pages."""
        return self._http


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
        while True:
            event = await self._next()
            if not isinstance(event, h11.Request):
                return
            if event.method == b"CONNECT":
                await self._tunnel(event)
                return
            await self._visit(event)
            if self._http.our_state is h11.MUST_CLOSE or self._http.their_state is h11.MUST_CLOSE:
                return
            self._http.start_next_cycle()

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
        url = request.target.decode("latin-1")
        try:
            if urlsplit(url).hostname == NOTICE_HOST:
                await self._go_on(url)
                return
            ruling = self._owner.judge(url, _browser(request))
        except (BadUrl, ValueError) as problem:
            await self._answer(400, str(problem).encode(), "text/plain; charset=utf-8")
            return
        if ruling.verdict is Verdict.ALLOW:
            await self._fetch(request, url)
        else:
            await self._answer(403, self._owner.notice(ruling))

    async def _go_on(self, url: str) -> None:
        reference = parse_qs(urlsplit(url).query).get("reference", [""])[0]
        target = self._owner.go_on(reference)
        if target is None:
            await self._answer(404, b"This notice is no longer open; go back and try again.", "text/plain")
        else:
            await self._answer(303, b"", Location=target)

    async def _fetch(self, request: h11.Request, url: str) -> None:
        headers = [(n.decode(), v.decode("latin-1")) for n, v in request.headers if n.decode() not in _HOP_BY_HOP]
        method = request.method.decode()
        body = self._body() if method not in ("GET", "HEAD", "OPTIONS") else None
        http = self._owner.http
        try:
            upstream = http.build_request(method, self._owner.upstream(url), headers=headers, content=body)
            answer = await http.send(upstream, stream=True)
        except httpx.HTTPError as problem:
            message = f"The filter let this visit pass, but the site does not answer ({type(problem).__name__})."
            await self._answer(502, message.encode(), "text/plain; charset=utf-8")
            return
        try:
            kept = [(name, value) for name, value in answer.headers.raw if name.decode().lower() not in _HOP_BY_HOP]
            await self._drop_body()
            await self._send(h11.Response(status_code=answer.status_code, headers=kept))
            if method != "HEAD":
                async for chunk in answer.aiter_raw():
                    await self._send(h11.Data(data=chunk))
            await self._send(h11.EndOfMessage())
        finally:
            await answer.aclose()

    async def _body(self) -> AsyncIterator[bytes]:
        while True:
            event = await self._next()
            if isinstance(event, h11.Data):
                yield bytes(event.data)
            else:
                return

    async def _tunnel(self, request: h11.Request) -> None:
        host, _, port = request.target.decode("latin-1").rpartition(":")
        try:
            ruling = self._owner.judge(f"https://{host}:{port}/", _browser(request), page=False)
        except (BadUrl, ValueError) as problem:
            await self._answer(400, str(problem).encode(), "text/plain; charset=utf-8")
            return
        if ruling.verdict is Verdict.BLOCK:
            # the page cannot be shown inside a tunnel; a person who looks at the raw answer still learns why
            await self._answer(403, self._owner.notice(ruling), Connection="close")
            return
        try:
            reader, writer = await asyncio.wait_for(self._owner.connect(host.strip("[]"), int(port)), 20)
        except (OSError, TimeoutError):
            await self._answer(502, b"The site does not answer.", "text/plain")
            return
        await self._send(h11.Response(status_code=200, headers=[]))
        early, _ = self._http.trailing_data
        writer.write(early)
        await asyncio.gather(_pump(self._reader, writer), _pump(reader, self._writer), return_exceptions=True)


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
