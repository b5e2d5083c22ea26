"""Many simulated endpoints in one process, each with its own folder, rhythm and people. For demo, load and faults.

A plan (JSON) says what they are: docs/reference/fleet-plan.md.
"""

from __future__ import annotations

import asyncio
import random
from collections.abc import Callable
from contextlib import AsyncExitStack
from datetime import UTC, datetime, timedelta
from pathlib import Path

import httpx
import msgspec

from portero.core.nouns.check_in import CHECK_IN_SECONDS
from portero.core.nouns.device import Facts
from portero.endpoint.agent import Agent
from portero.endpoint.calls import NotTaken, ServiceRefused, ServiceUnreachable
from portero.endpoint.errands import keep_errands, refusing
from portero.endpoint.folder import Folder
from portero.endpoint.probing.orders import keep_probing
from portero.endpoint.probing.simulated import by_what_it_holds
from portero.endpoint.running import Rhythm, keep_in_touch, keep_reporting, new_http

JOINING_AT_ONCE = 8
_CONNECTIONS = 4
STARTS_A_VISIT = 0.4
"""How often somebody who visits a site starts a program, too."""


class PlannedDevice(msgspec.Struct, forbid_unknown_fields=True):
    """One simulated machine."""

    facts: dict[str, object]
    every: float | None = None
    """Seconds between check-ins."""
    holds: bool = True
    """Whether it keeps a held request open in between, and so hears of news at once."""
    quiet: bool = False
    """Joined once, and not heard of since."""
    tells_facts: bool = True
    """Whether it tells its facts again after it has joined."""
    clock_ahead: float = 0.0
    """Seconds that its clock is wrong."""
    people: list[str] = []
    visits_per_hour: float = 6.0
    sites: dict[str, float] = {}
    """URL → how often, relative to the others."""


class FleetPlan(msgspec.Struct, forbid_unknown_fields=True):
    """A fleet."""

    portero_fleet: int
    devices: list[PlannedDevice]
    seed: int = 1
    past_hours: float = 0.0
    """How much activity before the start is made up when a machine first joins."""


class BadPlan(ValueError):
    """The plan does not read as one."""


def read_plan(data: bytes) -> FleetPlan:
    """A plan's bytes. BadPlan with what is wrong where."""
    try:
        return msgspec.json.decode(data, type=FleetPlan)
    except msgspec.MsgspecError as problem:
        raise BadPlan(f"not a fleet plan: {problem}") from problem


class SimulatedDevice:
    """One machine of a fleet: an agent with people who visit sites."""

    def __init__(self, planned: PlannedDevice, folder: Folder, http: httpx.AsyncClient, seed: int) -> None:
        self._planned, self._folder, self._http = planned, folder, http
        self._facts = Facts.model_validate(planned.facts)
        self._random = random.Random(f"{seed}/{self._facts.hostname}")
        # of a chance of its own, so that visits stay what they were
        self._starting = random.Random(f"{seed}/{self._facts.hostname}/starts")
        self._rhythm = Rhythm(planned.every, planned.holds, f"{seed}/{self._facts.hostname}/rhythm")

    async def begin(self, service: str, code: str, past_hours: float) -> Agent | None:
        """Join where the machine has not yet, and hand over its made-up past. None for one that stays quiet."""
        first = not self._folder.joined
        if first:
            await Agent.join(self._folder, self._http, service, code, self._facts)
        agent = Agent(self._folder, self._http, self._clock, tells_facts=self._planned.tells_facts)
        if first:
            await agent.check_in()
            self._live_through(agent, past_hours)
            await agent.report()
        if self._planned.quiet:
            agent.queue.close()
            return None
        return agent

    def _clock(self) -> datetime:
        return datetime.now(UTC) + timedelta(seconds=self._planned.clock_ahead)

    async def live(self, agent: Agent) -> None:
        """Keep in touch, visit sites, report, until cancelled."""
        await asyncio.sleep(self._random.uniform(0, min(self._planned.every or CHECK_IN_SECONDS, 30)))
        await asyncio.gather(
            keep_in_touch(agent, self._rhythm),
            keep_reporting(agent, 5.0),
            keep_errands(agent, refusing("a simulated machine has no browser to open pages in")),
            keep_probing(agent, by_what_it_holds(agent)),
            self._visit(agent),
        )

    async def _visit(self, agent: Agent) -> None:
        if not self._planned.sites or self._planned.visits_per_hour <= 0:
            return
        while True:
            await asyncio.sleep(self._random.expovariate(self._planned.visits_per_hour / 3600))
            self._one_visit(agent, agent.now())

    def _live_through(self, agent: Agent, hours: float) -> None:
        if not self._planned.sites or self._planned.visits_per_hour <= 0:
            return
        at = agent.now() - timedelta(hours=hours)
        while (at := at + self._pause()) < agent.now():
            self._one_visit(agent, at)

    def _pause(self) -> timedelta:
        return timedelta(hours=self._random.expovariate(self._planned.visits_per_hour))

    def _one_visit(self, agent: Agent, at: datetime) -> None:
        sites = self._planned.sites
        url = self._random.choices(list(sites), list(sites.values()))[0]
        user = self._random.choice(self._planned.people) if self._planned.people else None
        browser = self._facts.browsers[0].name if self._facts.browsers else None
        # what a real browser refuses itself nobody hears of; a simulated one tells
        ruling = agent.rule_in_browser(url, browser, at) if browser else None
        ruling = ruling or agent.rule(url, user, page=not url.startswith("https:"), at=at)
        agent.record(ruling, user=user, browser=browser, at=at)
        self._perhaps_start(agent, user, at)

    def _perhaps_start(self, agent: Agent, user: str | None, at: datetime) -> None:
        """Now and then somebody starts a program, those that a machine names first more often than others."""
        programs = self._facts.applications
        if programs and self._starting.random() < STARTS_A_VISIT:
            place = int(len(programs) * self._starting.random() ** 2)
            agent.queue.count_start(programs[place], user, at)


async def run_fleet(plan: FleetPlan, folder: Path, service: str, code: str, say: Callable[[str], None] = print) -> None:
    """Run a plan's devices until cancelled. Those that joined before go on as the same devices."""
    async with AsyncExitStack() as stack:
        # a client each: one that many share looks through all of its connections with every request
        https = [await stack.enter_async_context(new_http(_CONNECTIONS)) for _ in plan.devices]
        devices = [
            SimulatedDevice(planned, Folder(folder / str(planned.facts["hostname"])), http, plan.seed)
            for planned, http in zip(plan.devices, https, strict=True)
        ]
        gate = asyncio.Semaphore(JOINING_AT_ONCE)

        async def begin(device: SimulatedDevice) -> Agent | None:
            async with gate:
                return await device.begin(service, code, plan.past_hours)

        agents = await asyncio.gather(*(begin(device) for device in devices), return_exceptions=True)
        failed = [agent for agent in agents if isinstance(agent, BaseException)]
        for problem in failed:
            if not isinstance(problem, ServiceRefused | NotTaken | ServiceUnreachable):
                raise problem
        alive = [(d, a) for d, a in zip(devices, agents, strict=True) if isinstance(a, Agent)]
        say(f"{len(alive)} of {len(devices)} machines are up" + (f"; {failed[0]}" if failed else ""))
        await asyncio.gather(*(device.live(agent) for device, agent in alive))
