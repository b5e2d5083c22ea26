"""The rhythm of an endpoint: check in at intervals, be woken in between, hand activity over."""

from __future__ import annotations

import asyncio
import random
import sqlite3
import ssl
import time
from collections.abc import Callable
from functools import lru_cache

import httpx

from portero.core.nouns.check_in import CHECK_IN_SECONDS
from portero.endpoint.agent import Agent
from portero.endpoint.calls import NotTaken, ServiceRefused, ServiceUnreachable
from portero.endpoint.desktop import show

REPORT_SECONDS = 2.0
MOST_BACKOFF = 60.0
RETRY_SECONDS = 10.0
INVENTORY_SECONDS = 60.0


def new_http(connections: int = 20) -> httpx.AsyncClient:
    """The client that endpoints talk to the service with; it goes straight there, past any proxy."""
    limits = httpx.Limits(max_connections=connections, max_keepalive_connections=connections)
    return httpx.AsyncClient(timeout=20.0, limits=limits, trust_env=False, verify=_trusted())


@lru_cache(maxsize=1)
def _trusted() -> ssl.SSLContext:
    """The certificates that are trusted, read once: it takes longer than all else of a client."""
    return ssl.create_default_context()


class Rhythm:
    """How one endpoint keeps in touch: every so many seconds, or as the service asks (None), and with a held request in
    between or not.
    """

    def __init__(self, every: float | None = None, holds: bool = True, seed: int | str = 0) -> None:
        self.every, self.holds = every, holds
        self._random = random.Random(seed)

    def next(self, asked: float | None = None) -> float:
        """Seconds to the next check-in, with jitter so that machines do not come all at once."""
        return (self.every or asked or CHECK_IN_SECONDS) * self._random.uniform(0.85, 1.15)


async def keep_in_touch(agent: Agent, rhythm: Rhythm, say: Callable[[str], None] = lambda _line: None) -> None:
    """Check in for ever. The service being away changes nothing: the last good bundle holds. Ends when refused."""
    backoff, woken = 1.0, False
    while True:
        try:
            if await agent.check_in(woken) and agent.manifest:
                say(f"applied revision {agent.manifest.revision}, {agent.manifest.bundle[:19]}…")
            if problems := agent.problems:
                say(f"the last good bundle stays in force: {problems}")
            backoff = 1.0
            woken = await _until_next(agent, rhythm)
        except ServiceRefused as problem:
            say(f"the service refuses this machine: {problem} The last good bundle stays in force.")
            return
        except (ServiceUnreachable, NotTaken, OSError) as problem:
            say(f"{problem}; the last good bundle stays in force")
            await asyncio.sleep(backoff * random.uniform(0.8, 1.2))
            backoff, woken = min(backoff * 2, MOST_BACKOFF), False


async def _until_next(agent: Agent, rhythm: Rhythm) -> bool:
    """Wait for the next check-in; True where the service woke the endpoint before."""
    until = time.monotonic() + rhythm.next(agent.asked_every)
    while (left := until - time.monotonic()) > 0:
        if agent.problem:
            # what the service offers cannot be applied: ask again soon, but do not hammer it
            await asyncio.sleep(min(left, RETRY_SECONDS))
            return True
        if agent.news.is_set():
            agent.news.clear()
            return False
        if await _first_of(agent, left, rhythm.holds):
            return True
    return False


async def _first_of(agent: Agent, seconds: float, holds: bool) -> bool:
    """Wait until the service wakes the endpoint (True), the endpoint has news itself, or the time is over."""
    told = asyncio.ensure_future(agent.news.wait())
    woken = asyncio.ensure_future(agent.wait()) if holds else None
    waiting = {told} if woken is None else {told, woken}
    try:
        await asyncio.wait(waiting, timeout=seconds, return_when=asyncio.FIRST_COMPLETED)
        return woken is not None and woken.done() and woken.result()
    finally:
        for one in waiting:
            one.cancel()
        await asyncio.gather(*waiting, return_exceptions=True)


async def keep_machine(agent: Agent, say: Callable[[str], None] = lambda _line: None, every: float = 1.0) -> None:
    """Take up what another process of this machine has fetched, and keep the policy files of its browsers, for ever.
    Whoever sits there is told of other lists.
    """
    while True:
        agent.take_up()
        await put_browsers_right(agent, say)
        await asyncio.sleep(every)


async def put_browsers_right(agent: Agent, say: Callable[[str], None] = lambda _line: None) -> None:
    """See that browsers find the policy that they should, and tell whoever sits there what was done."""
    for noticed in await agent.look_at_browsers():
        say(noticed.text)
        if noticed.what in ("written", "removed"):
            await show(noticed.text)


async def keep_inventory(agent: Agent, every: float = INVENTORY_SECONDS) -> None:
    """Look for programs that are new, others or gone, for ever; the service is told at once."""
    if agent.inventory is None:
        return
    try:
        while True:
            if await asyncio.to_thread(agent.inventory.look):
                agent.news.set()
            await asyncio.sleep(every)
    finally:
        # a thread cannot be cancelled, and the endpoint would wait for it
        agent.inventory.end()


async def keep_reporting(agent: Agent, every: float = REPORT_SECONDS) -> None:
    """Hand activity over for ever; while the service is away it stays in the queue."""
    wait = every
    while True:
        await asyncio.sleep(wait)
        try:
            await agent.report()
            wait = every
        except (ServiceUnreachable, NotTaken, sqlite3.Error):
            wait = min(wait * 2, MOST_BACKOFF)
        except ServiceRefused:
            return
