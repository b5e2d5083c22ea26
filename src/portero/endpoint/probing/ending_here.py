"""Where probes end: this machine's own filter on a port of its own, whose allowed visits end at a page inside it.

Nothing is fetched from outside through it and nothing is recorded: it is of no use but for trying. It lives as long as
an order is being tried.
"""

from __future__ import annotations

import asyncio
import ssl
import tempfile
from collections.abc import AsyncIterator
from contextlib import AsyncExitStack, asynccontextmanager, suppress
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

from portero.endpoint.agent import Agent
from portero.endpoint.filter import Filter, Origin
from portero.endpoint.own_certificate import own_certificate
from portero.endpoint.probing.starting_here import StartPages

_PAGE = b"<!doctype html><title>The end of a probe</title><p>This visit was let through. Nothing was loaded."
_ANSWER = (
    b"HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=utf-8\r\nCache-Control: no-store\r\nConnection: close\r\n"
    b"Content-Length: %d\r\n\r\n%s" % (len(_PAGE), _PAGE)
)
_MOST_HEAD = 64 * 1024


class ProbeFilter(NamedTuple):
    """Such a filter: its port on loopback, itself, and the pages from which to set out."""

    port: int
    asking: Filter
    pages: StartPages


@asynccontextmanager
async def probe_filter(agent: Agent, user: str | None) -> AsyncIterator[ProbeFilter]:
    """Such a filter, for somebody's visits."""
    async with AsyncExitStack() as stack:
        plain, secure = [await _listening(stack, None), await _listening(stack, _tls())]
        pages = StartPages()
        asking = Filter(agent, user=user, origin=Origin(plain, secure), records=False, own_page=pages)
        server = await asking.start(0)
        stack.push_async_callback(_closed, server)
        yield ProbeFilter(server.sockets[0].getsockname()[1], asking, pages)


async def _listening(stack: AsyncExitStack, tls: ssl.SSLContext | None) -> int:
    server = await asyncio.start_server(_end, "127.0.0.1", 0, ssl=tls, limit=_MOST_HEAD)
    stack.push_async_callback(_closed, server)
    port: int = server.sockets[0].getsockname()[1]
    return port


async def _closed(server: asyncio.Server) -> None:
    server.close()
    with suppress(TimeoutError):
        await asyncio.wait_for(server.wait_closed(), 2)


async def _end(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    with suppress(ConnectionError, TimeoutError, asyncio.IncompleteReadError, asyncio.LimitOverrunError, ssl.SSLError):
        await asyncio.wait_for(reader.readuntil(b"\r\n\r\n"), 10)
        writer.write(_ANSWER)
        await writer.drain()
    with suppress(ConnectionError, ssl.SSLError):
        writer.close()
        await writer.wait_closed()


@lru_cache(maxsize=1)
def _tls() -> ssl.SSLContext:
    """A certificate of its own, which nobody trusts: who tries is told to look past that."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with tempfile.NamedTemporaryFile(prefix="portero-probe-") as file:
        Path(file.name).write_bytes(own_certificate("The end of a probe"))
        context.load_cert_chain(file.name)
    return context
