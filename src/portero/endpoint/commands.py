"""What the commands of `portero-endpoint` do; each gives its exit status."""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import json
import os
import platform
import sys
from pathlib import Path
from typing import Any, NoReturn

import msgspec

from portero import __version__
from portero.core import wording
from portero.core.nouns.action import Verdict
from portero.core.nouns.device import Facts
from portero.core.nouns.urls import parse_visit
from portero.endpoint.agent import Agent, AgentRuling
from portero.endpoint.browsers.installed import installed_browsers
from portero.endpoint.browsers.managed import ManagedBrowsers, remove_policy_files
from portero.endpoint.browsers.visiting import visit_really
from portero.endpoint.calls import NotTaken, ServiceRefused, ServiceUnreachable
from portero.endpoint.errands import keep_errands, refusing, with_real_browser
from portero.endpoint.filter import Filter, Origin
from portero.endpoint.fleet import read_plan, run_fleet
from portero.endpoint.folder import Folder, NotJoined
from portero.endpoint.guard.keeping import GuardOptions, keep_guard, notice_text
from portero.endpoint.guard.launching import LaunchRuling, rule_on_launch
from portero.endpoint.guard.processes import parent_of
from portero.endpoint.guard.ruling import StartRuling
from portero.endpoint.here import running_here, running_in
from portero.endpoint.inventory import Inventory, system_folders
from portero.endpoint.local_log import LocalLog
from portero.endpoint.machine import last_start, signed_in
from portero.endpoint.probing import orders as probing
from portero.endpoint.probing.orders import Tries, keep_probing
from portero.endpoint.probing.really import with_what_is_here
from portero.endpoint.running import Rhythm, keep_in_touch, keep_inventory, keep_machine, keep_reporting, new_http
from portero.endpoint.test_program import put_test_program
from portero.formats.places import BadDocument, PlacedValues

DONE, FAILED, USAGE, UNREACHABLE = 0, 1, 2, 4
NOT_STARTED = 126
"""As shells say of a program that was found and could not be started."""


def say(line: str) -> None:
    """Say something to whoever reads along, on standard error."""
    print(line, file=sys.stderr, flush=True)


_NO_ERRANDS = "this machine is set up to do no errands"


def own_facts(options: argparse.Namespace) -> Facts:
    """The facts of this machine, with what the options or a facts file say in their place."""
    given: dict[str, Any] = {}
    if options.facts:
        value = PlacedValues(options.facts.read_bytes()).value
        if not isinstance(value, dict):
            raise BadDocument([PlacedValues(b"").problem((), "the facts file must hold one mapping")])
        given = value
    found = {
        "hostname": platform.node() or "unnamed",
        "kind": "other",
        "os": {"family": platform.system().lower() or "other", "version": platform.release()[:255]},
        "browsers": [{"name": browser.name, "version": browser.version} for browser in installed_browsers()],
        "layers": {"filter": "enforcing", "browser": "off", "startup": "off"},
        "layer_versions": {"filter": __version__},
    }
    named = {name: value for name in ("hostname", "unit", "kind", "serial") if (value := getattr(options, name))}
    return Facts.model_validate({**found, **given, **named})


async def join(options: argparse.Namespace) -> int:
    """Join a service."""
    folder = Folder(options.data)
    if folder.joined and not options.again:
        say(f"{folder.path} holds a device that has joined already; use --again to join as a new one.")
        return FAILED
    async with new_http() as http:
        identity = await Agent.join(folder, http, options.service.rstrip("/"), options.code, own_facts(options))
        agent = Agent(folder, http, last_start=last_start())
        await take_first(agent)
    print(f"Joined as device {identity.device}.")
    if agent.manifest:
        print(f"Holds the bundle of revision {agent.manifest.revision}.")
    print(f"Start it with: portero-endpoint run --data {options.data}")
    return DONE


async def take_first(agent: Agent, woken: bool = False) -> None:
    """Take what the machine should have. What it was told of may be replaced before it is fetched: then it asks again.
    NotTaken, ServiceRefused, ServiceUnreachable.
    """
    for pause in (0.2, 1.0):
        try:
            await agent.check_in(woken)
        except NotTaken:
            await asyncio.sleep(pause)
        else:
            return
    await agent.check_in(woken)


async def run(options: argparse.Namespace) -> int:
    """Keep in touch and filter, until told to end."""
    origin = Origin(*options.origin) if options.origin else None
    folder, root = Folder(options.data), options.browser_policies
    async with new_http() as http:
        browsers = ManagedBrowsers(folder, root) if root else None
        inventory = None if options.no_programs else Inventory(folder, options.programs or system_folders())
        agent = Agent(
            folder, http, last_start=last_start(), signed_in=signed_in, browsers=browsers, inventory=inventory
        )
        if problems := agent.problems:
            say(wording.as_sentence(problems))
        server = await Filter(agent, user=options.user, origin=origin).start(options.port)
        port = server.sockets[0].getsockname()[1]
        say(f"The filter of {agent.facts.hostname} listens as an HTTP proxy on 127.0.0.1:{port}")
        guard = GuardOptions(options.guard.resolve(), options.countdown) if options.guard else None
        rhythm = Rhythm(options.every, seed=agent.identity.device)
        with running_here(folder, port, root):
            async with server:
                # refused by the service the first two end; the machine goes on enforcing the last good bundle
                await asyncio.gather(
                    keep_in_touch(agent, rhythm, say),
                    keep_reporting(agent, 1.0),
                    keep_machine(agent, say),
                    keep_inventory(agent),
                    *([keep_guard(agent, guard, say)] if guard else []),
                    keep_errands(agent, refusing(_NO_ERRANDS) if options.no_errands else with_real_browser(port)),
                    keep_probing(agent, _tries(agent, options)),
                )
    return DONE


def _tries(agent: Agent, options: argparse.Namespace) -> Tries:
    if options.no_probes:
        return probing.refusing("This machine is set up to try nothing.")
    return with_what_is_here(agent, options.browser_policies)


async def start(options: argparse.Namespace) -> int:
    """Start a program where it may start; this process becomes it."""
    async with new_http() as http:
        agent = Agent(Folder(options.data), http, last_start=last_start())
        launch = rule_on_launch(agent.folder, options.program, agent.now())
        if launch.ruling is not None and not await _may_launch(agent, launch, options.go_on):
            return NOT_STARTED
    agent.queue.close()
    return _become(launch.program, [options.program, *options.arguments])


async def make_test_program(options: argparse.Namespace) -> int:
    """Make a program that does nothing."""
    try:
        path = put_test_program(options.folder, options.product.strip().replace(" ", "_"), options.version)
    except ValueError as problem:
        say(wording.as_sentence(str(problem)))
        return USAGE
    print(path)
    return DONE


def _become(program: Path, arguments: list[str]) -> NoReturn:
    with contextlib.suppress(PermissionError):
        # a guard beside refuses once what is only warned of
        os.execv(program, arguments)
    os.execv(program, arguments)


async def _may_launch(agent: Agent, launch: LaunchRuling, go_on: bool) -> bool:
    """Record the start; whether it may go on."""
    ruling, user = launch.ruling, launch.user
    assert ruling is not None
    continued = ruling.verdict is Verdict.WARN and (go_on or _asked(agent, ruling))
    if ruling.verdict is Verdict.ALLOW and not ruling.layer.logged:
        agent.queue.count_start(ruling.program, user, agent.now())
        return True
    reference = agent.record_start(ruling, user=user, parent=parent_of(os.getppid()), continued=continued)
    allowed = continued or ruling.verdict is Verdict.ALLOW
    if not allowed:
        say(notice_text(agent, ruling, reference))
        with contextlib.suppress(ServiceUnreachable, NotTaken, ServiceRefused):
            await agent.report()
    return allowed


def _asked(agent: Agent, ruling: StartRuling) -> bool:
    """Whether the person at the terminal, where there is one, goes on past the warning."""
    if not sys.stdin.isatty():
        return False
    say(notice_text(agent, ruling, None))
    say("Start it all the same? (yes, or anything else)")
    return sys.stdin.readline().strip().casefold() == "yes"


def _ruling_json(ruling: AgentRuling) -> dict[str, Any]:
    return {
        "url": ruling.url,
        "host": ruling.host,
        "verdict": ruling.verdict.value,
        "categories": list(ruling.categories),
        "layer": json.loads(ruling.layer.model_dump_json()),
        "reference": ruling.reference,
    }


async def visit(options: argparse.Namespace) -> int:
    """Decide a visit, or try it with a real browser."""
    return await (_try_visit(options) if options.real else _decide_visit(options))


async def _try_visit(options: argparse.Namespace) -> int:
    folder = Folder(options.data)
    running = running_in(folder)
    if running is None:
        say(
            "The endpoint does not run here, so there is no filter to go through; start it with:"
            f" portero-endpoint run --browser-policies DIR --data {options.data}"
        )
        return FAILED
    url = parse_visit(options.url).url
    root = Path(running.browser_policies) if running.browser_policies else None
    visited = await asyncio.to_thread(visit_really, url, options.browser, root, running.port)
    if options.json:
        print(json.dumps(msgspec.to_builtins(visited), indent=2))
        return DONE
    where = {"browser": "by its site list", "filter": "by the filter", None: ""}[visited.layer]
    print(f"{visited.outcome} {where}".strip() + f"  {visited.url}")
    print(f"{visited.browser} {visited.version or ''}, {visited.seconds:.1f} s".replace(" ,", ","))
    for name, value in (
        ("At", visited.at_url),
        ("Title", visited.title),
        ("Error", None if visited.layer else visited.error),
    ):
        if value and value != visited.url:
            print(f"{name:<10}{value}")
    if visited.reference:
        print(f"Reference {visited.reference}")
    return DONE


async def _decide_visit(options: argparse.Namespace) -> int:
    async with new_http() as http:
        agent = Agent(Folder(options.data), http, last_start=last_start())
        ruling = agent.rule(options.url, options.user)
        agent.record(ruling, user=options.user)
        with contextlib.suppress(ServiceUnreachable, NotTaken, ServiceRefused):
            await agent.report()
    if options.json:
        print(json.dumps(_ruling_json(ruling), indent=2))
        return DONE
    print(f"{ruling.verdict.value}  {ruling.host}")
    print(ruling.layer.why)
    if ruling.reference:
        print(f"Reference {ruling.reference}")
    return DONE


async def status(options: argparse.Namespace) -> int:
    """What this endpoint is and holds."""
    async with new_http() as http:
        agent = Agent(Folder(options.data), http, last_start=last_start())
        told = {
            "hostname": agent.facts.hostname,
            "device": agent.identity.device,
            "service": agent.identity.service,
            "revision": agent.manifest.revision if agent.manifest else None,
            "bundle": agent.manifest.bundle if agent.manifest else None,
            "filter": agent.facts.layers.filter,
            "left to gateway": agent.gateway,
            "activity waiting": agent.queue.waiting(),
            "category index": agent.held.index or None,
            "problem": agent.problems,
        }
    if options.json:
        print(json.dumps(told, indent=2))
        return DONE
    for name, value in told.items():
        print(f"{name:<17} {'–' if value is None else value}")
    return DONE


async def log(options: argparse.Namespace) -> int:
    """What was stopped and changed on this machine."""
    entries = LocalLog(Folder(options.data)).entries(options.last)
    if options.json:
        print(json.dumps(msgspec.to_builtins(entries), indent=2))
        return DONE
    for entry in entries:
        print(f"{entry.at}  {entry.what:<9} {entry.text}")
    if not entries:
        print("Nothing has been stopped or changed here yet.")
    return DONE


async def sync(options: argparse.Namespace) -> int:
    """Ask the service now, instead of waiting; 1 where what it offers cannot be applied."""
    folder = Folder(options.data)
    async with new_http() as http:
        agent = Agent(folder, http, tells_facts=False, last_start=last_start())
        was = agent.manifest
        await take_first(agent, woken=True)
        if agent.problems:
            say(wording.as_sentence(agent.problems))
            return FAILED
        now = agent.manifest
    if now is None:
        print("The service has nothing for this machine yet.")
    elif was is not None and was.revision == now.revision:
        print(f"Up to date: revision {now.revision}.")
    else:
        print(f"Applied revision {now.revision}.")
    return DONE


async def leave(options: argparse.Namespace) -> int:
    """Take away what is the endpoint's own on this machine, and forget who it was."""
    folder = Folder(options.data)
    if not folder.joined:
        raise NotJoined(f"nothing has joined from {folder.path}")
    if (running := running_in(folder)) is not None:
        say(f"The endpoint runs here, as process {running.pid}; end it first.")
        return FAILED
    hostname = folder.identity().facts["hostname"]
    for path in remove_policy_files(folder):
        print(f"Removed {path}")
    folder.forget()
    print(f"This machine has left. The service knows it still: portero device retire {hostname}")
    return DONE


async def fleet(options: argparse.Namespace) -> int:
    """Run many simulated machines."""
    plan = read_plan(options.plan.read_bytes())
    await run_fleet(plan, options.data, options.service.rstrip("/"), options.code or "", say)
    return DONE
