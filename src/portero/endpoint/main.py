"""The command `portero-endpoint`."""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import json
import platform
import shutil
import signal
import sys
from collections.abc import Coroutine
from pathlib import Path
from typing import Any

import argcomplete
import platformdirs
from pydantic import ValidationError

from portero import __version__
from portero.core import wording
from portero.core.nouns.device import Facts
from portero.core.nouns.urls import BadUrl
from portero.endpoint.agent import Agent, AgentRuling
from portero.endpoint.calls import NotTaken, ServiceRefused, ServiceUnreachable
from portero.endpoint.filter import Filter, Origin
from portero.endpoint.fleet import BadPlan, read_plan, run_fleet
from portero.endpoint.folder import Folder, NotJoined
from portero.endpoint.machine import last_start
from portero.endpoint.running import Rhythm, keep_in_touch, keep_reporting, new_http
from portero.formats.places import BadDocument, PlacedValues

_DONE, _FAILED, _USAGE, _UNREACHABLE = 0, 1, 2, 4


def _say(line: str) -> None:
    print(line, file=sys.stderr, flush=True)


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
        "browsers": [{"name": name} for name in ("chromium", "firefox") if shutil.which(name)],
        "layers": {"filter": "enforcing", "browser": "off", "startup": "off"},
        "layer_versions": {"filter": __version__},
    }
    named = {name: value for name in ("hostname", "unit", "kind", "serial") if (value := getattr(options, name))}
    return Facts.model_validate({**found, **given, **named})


async def _join(options: argparse.Namespace) -> int:
    folder = Folder(options.data)
    if folder.joined and not options.again:
        _say(f"{folder.path} holds a device that has joined already; use --again to join as a new one.")
        return _FAILED
    async with new_http() as http:
        identity = await Agent.join(folder, http, options.service.rstrip("/"), options.code, own_facts(options))
        agent = Agent(folder, http, last_start=last_start())
        await _take_first(agent)
    print(f"Joined as device {identity.device}.")
    if agent.manifest:
        print(f"Holds the bundle of revision {agent.manifest.revision}.")
    print(f"Start it with: portero-endpoint run --data {options.data}")
    return _DONE


async def _take_first(agent: Agent) -> None:
    """Take what the machine should have. What it was told of may be replaced before it is fetched: then it asks again.
    NotTaken, ServiceRefused, ServiceUnreachable.
    """
    for pause in (0.2, 1.0):
        try:
            await agent.check_in()
        except NotTaken:
            await asyncio.sleep(pause)
        else:
            return
    await agent.check_in()


async def _run(options: argparse.Namespace) -> int:
    origin = Origin(*options.origin) if options.origin else None
    async with new_http() as http:
        agent = Agent(Folder(options.data), http, last_start=last_start())
        if problems := agent.problems:
            _say(wording.as_sentence(problems))
        server = await Filter(agent, user=options.user, origin=origin).start(options.port)
        port = server.sockets[0].getsockname()[1]
        _say(f"The filter of {agent.facts.hostname} listens as an HTTP proxy on 127.0.0.1:{port}")
        rhythm = Rhythm(options.every, seed=agent.identity.device)
        async with server:
            await asyncio.gather(keep_in_touch(agent, rhythm, _say), keep_reporting(agent, 1.0))
            # refused by the service: go on enforcing the last good bundle
            await server.serve_forever()
    return _DONE


def _ruling_json(ruling: AgentRuling) -> dict[str, Any]:
    return {
        "url": ruling.url,
        "host": ruling.host,
        "verdict": ruling.verdict.value,
        "categories": list(ruling.categories),
        "layer": json.loads(ruling.layer.model_dump_json()),
        "reference": ruling.reference,
    }


async def _visit(options: argparse.Namespace) -> int:
    async with new_http() as http:
        agent = Agent(Folder(options.data), http, last_start=last_start())
        ruling = agent.rule(options.url, options.user)
        agent.record(ruling, user=options.user)
        with contextlib.suppress(ServiceUnreachable, NotTaken, ServiceRefused):
            await agent.report()
    if options.json:
        print(json.dumps(_ruling_json(ruling), indent=2))
        return _DONE
    print(f"{ruling.verdict.value}  {ruling.host}")
    print(ruling.layer.why)
    if ruling.reference:
        print(f"Reference {ruling.reference}")
    return _DONE


async def _status(options: argparse.Namespace) -> int:
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
        return _DONE
    for name, value in told.items():
        print(f"{name:<17} {'–' if value is None else value}")
    return _DONE


async def _fleet(options: argparse.Namespace) -> int:
    plan = read_plan(options.plan.read_bytes())
    await run_fleet(plan, options.data, options.service.rstrip("/"), options.code or "", _say)
    return _DONE


def _ports(text: str) -> list[int]:
    ports = [int(part) for part in text.split(",")]
    if len(ports) != 2 or not all(0 < port < 65536 for port in ports):
        raise ValueError
    return ports


def parser() -> argparse.ArgumentParser:
    """The parser of the whole command."""
    top = argparse.ArgumentParser(
        prog="portero-endpoint", description="A stand-in for the agent on a managed machine, and a fleet of them."
    )
    top.add_argument("--version", action="version", version=f"portero-endpoint {__version__}")
    commands = top.add_subparsers(required=True, metavar="COMMAND")
    default = Path(platformdirs.user_data_dir("portero-endpoint"))

    def command(name: str, run: Any, summary: str, example: str, *, lasts: bool = False) -> argparse.ArgumentParser:
        made = commands.add_parser(
            name,
            help=summary,
            description=summary,
            epilog=f"Example:\n  {example}",
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        made.set_defaults(run=run, lasts=lasts)
        made.add_argument("--data", type=Path, default=default, metavar="DIR", help="the endpoint's folder")
        return made

    join = command(
        "join", _join, "Join a service with an enrolment code.", "portero-endpoint join --code ABCD-EFGH-JKMN-PQRS"
    )
    join.add_argument("--service", default="http://127.0.0.1:8642", metavar="URL", help="where the service is")
    join.add_argument("--code", required=True, help="the enrolment code")
    join.add_argument("--facts", type=Path, metavar="FILE", help="facts to report, one mapping as in a facts document")
    join.add_argument("--hostname", help="report this hostname")
    join.add_argument("--unit", help="report this unit, as in brackwater/office")
    join.add_argument("--kind", help="report this kind, as in laptop")
    join.add_argument("--serial", help="report this serial number")
    join.add_argument("--again", action="store_true", help="join as a new device in place of the one that is there")

    run = command(
        "run",
        _run,
        "Keep in touch, and filter visits as an HTTP proxy.",
        "portero-endpoint run --port 8700",
        lasts=True,
    )
    run.add_argument("--port", type=int, default=8700, help="loopback port of the proxy (8700; 0 takes a free one)")
    run.add_argument("--user", help="whose visits these are")
    run.add_argument("--every", type=float, metavar="SECONDS", help="time between check-ins (as the service asks)")
    run.add_argument(
        "--origin",
        type=_ports,
        metavar="HTTP,HTTPS",
        help="loopback ports that stand in for every allowed host, as the demo's web does",
    )

    visit = command(
        "visit",
        _visit,
        "Decide one visit as the filter would, without a browser.",
        "portero-endpoint visit http://lucky-reef.example/",
    )
    visit.add_argument("url", metavar="URL")
    visit.add_argument("--user", help="who visits")
    visit.add_argument("--json", action="store_true", help="one JSON document")

    status = command("status", _status, "What this endpoint is and holds.", "portero-endpoint status")
    status.add_argument("--json", action="store_true", help="one JSON document")

    fleet = command(
        "fleet",
        _fleet,
        "Run many simulated machines in one process.",
        "portero-endpoint fleet --plan fleet.json --code ABCD-EFGH-JKMN-PQRS --data /tmp/fleet",
        lasts=True,
    )
    fleet.add_argument("--plan", type=Path, required=True, metavar="FILE", help="which machines, as JSON")
    fleet.add_argument("--service", default="http://127.0.0.1:8642", metavar="URL", help="where the service is")
    fleet.add_argument("--code", help="enrolment code for machines that have not joined yet")
    return top


async def _until_told(work: Coroutine[Any, Any, int]) -> int:
    task = asyncio.ensure_future(work)
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, task.cancel)
    try:
        return await task
    except asyncio.CancelledError:
        return _DONE


def run(arguments: list[str] | None = None) -> int:
    """Run the command; returns its exit status."""
    top = parser()
    argcomplete.autocomplete(top)
    options = top.parse_args(arguments)
    try:
        work = options.run(options)
        return int(asyncio.run(_until_told(work) if options.lasts else work))
    except ServiceUnreachable as problem:
        _say(f"{problem}. Is the service running?")
        return _UNREACHABLE
    except (ServiceRefused, NotTaken, NotJoined, BadUrl, BadPlan, BadDocument, OSError) as problem:
        _say(wording.as_sentence(str(problem)))
        return _FAILED
    except ValidationError as problem:
        first = problem.errors()[0]
        _say(f"{'.'.join(map(str, first['loc']))}: {first['msg'].removeprefix('Value error, ')}.")
        return _USAGE


if __name__ == "__main__":
    sys.exit(run())
