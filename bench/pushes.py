"""A push to simulated machines that all hold a request, and an observed run of them, beside their bare check-ins."""

from __future__ import annotations

import asyncio
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import AsyncExitStack, contextmanager
from pathlib import Path
from typing import NamedTuple

import uvicorn

from bench.measuring import Row, Timing
from portero.core.nouns.action import Verdict
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.run import NewRun
from portero.endpoint.agent import Agent
from portero.endpoint.folder import Folder
from portero.endpoint.probing.orders import keep_probing
from portero.endpoint.probing.simulated import by_what_it_holds
from portero.endpoint.running import Rhythm, keep_in_touch, new_http
from portero.service.app import create_app, with_devices
from portero.service.keepers import Keepers, open_keepers
from portero.service.running import server_config, set_up_logging

_AT_ONCE = 8
_PATIENCE = 120.0
_PROBE = "http://news.category.test/"


@contextmanager
def _served(keepers: Keepers) -> Iterator[str]:
    """The service on loopback, in a thread of this process."""
    server = uvicorn.Server(server_config(with_devices(create_app(keepers)), port=0))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.01)
    yield f"http://127.0.0.1:{server.servers[0].sockets[0].getsockname()[1]}"
    keepers.live.close()
    server.should_exit = True
    thread.join(15)


def _until(is_so: Callable[[], bool]) -> None:
    """Wait until something is so. TimeoutError where it does not come about."""
    until = time.monotonic() + _PATIENCE
    while not is_so():
        if time.monotonic() > until:
            raise TimeoutError("not every machine has answered")
        time.sleep(0.02)


class _Took(NamedTuple):
    """Seconds in which all check in, some at a time; have answered a push; and have tried a probe and told of it."""

    floor: float
    push: float
    observed: float


async def _measured(keepers: Keepers, url: str, folder: Path, machines: int) -> _Took:
    code = keepers.enrolment.make_code(NewEnrolmentCode(uses=machines), "bench").code
    gate = asyncio.Semaphore(_AT_ONCE)
    async with AsyncExitStack() as stack:

        async def join(number: int) -> Agent:
            http = await stack.enter_async_context(new_http(4))
            own = Folder(folder / str(number))
            async with gate:
                await Agent.join(own, http, url, code, Facts(hostname=f"machine-{number:05}"))
                agent = Agent(own, http)
                await agent.check_in()
                return agent

        agents = await asyncio.gather(*map(join, range(machines)))

        async def check_in(agent: Agent) -> None:
            async with gate:
                await agent.check_in()

        began = time.perf_counter()
        await asyncio.gather(*map(check_in, agents))
        floor = time.perf_counter() - began
        keeping = [asyncio.ensure_future(keep_in_touch(agent, Rhythm(3600))) for agent in agents]
        keeping += [asyncio.ensure_future(keep_probing(agent, by_what_it_holds(agent))) for agent in agents]
        await asyncio.to_thread(_until, lambda: keepers.live.held >= machines)
        ids = [agent.identity.device for agent in agents]
        began = time.perf_counter()
        push = await asyncio.to_thread(keepers.pushes.push, ids, "all", "bench", None)
        await asyncio.to_thread(_until, lambda: keepers.pushes.get(push.id).applied == machines)
        push_took = time.perf_counter() - began
        await asyncio.to_thread(_until, lambda: keepers.live.held >= machines)
        new = NewRun(kind="observed", visit=_PROBE, on=("whole-fleet",), expect=Verdict.ALLOW, seconds=_PATIENCE)
        began = time.perf_counter()
        run = await asyncio.to_thread(keepers.observing.start, new, "bench")
        await asyncio.to_thread(_until, lambda: keepers.runs.get(run.id).state == "done")
        observed_took = time.perf_counter() - began
        done = keepers.runs.get(run.id)
        assert (done.answered, done.failed) == (machines, 0), done.sentence
        for task in keeping:
            task.cancel()
        await asyncio.gather(*keeping, return_exceptions=True)
        for agent in agents:
            agent.queue.close()
    return _Took(floor, push_took, observed_took)


def push_rows(machines: int) -> list[Row]:
    """Machines and service are in one process, and share what it has."""
    set_up_logging(quiet=True)
    with tempfile.TemporaryDirectory() as temporary:
        keepers = open_keepers(Path(temporary) / "service")
        with _served(keepers) as url:
            took = asyncio.run(_measured(keepers, url, Path(temporary) / "machines", machines))
    bare, pushed, observed = (Timing(seconds / machines, seconds / machines) for seconds in took)
    return [
        Row(f"{machines:,} machines check in once, each", bare),
        Row(f"push to {machines:,} machines until all have receipts, each", pushed, bare.median, goal=3),
        Row(f"observed run of {machines:,} machines until all have told, each", observed, bare.median, goal=10),
    ]
