"""The command `portero-endpoint`."""

from __future__ import annotations

import argparse
import asyncio
import signal
import sys
from collections.abc import Callable, Coroutine
from pathlib import Path
from typing import Any, get_args

import argcomplete
import platformdirs
from pydantic import ValidationError

from portero import __version__
from portero.core import wording
from portero.core.nouns.coverage import BrowserFamily
from portero.core.nouns.urls import BadUrl
from portero.endpoint import commands
from portero.endpoint.browsers.driving import BrowserFailed
from portero.endpoint.calls import NotTaken, ServiceRefused, ServiceUnreachable
from portero.endpoint.fleet import BadPlan
from portero.endpoint.folder import NotJoined
from portero.formats.places import BadDocument


def _count(text: str) -> int:
    if not text.isdecimal() or not 1 <= int(text) <= _MOST_SHOWN:
        raise argparse.ArgumentTypeError(f"“{text[:20]}” is no number from 1 to {_MOST_SHOWN:,}")
    return int(text)


def _ports(text: str) -> list[int]:
    ports = [int(part) for part in text.split(",")]
    if len(ports) != 2 or not all(0 < port < 65536 for port in ports):
        raise ValueError
    return ports


Add = Callable[..., argparse.ArgumentParser]
"""Adds a command: its name, what runs it, its summary, an example; whether it lasts."""
_SERVICE = "http://127.0.0.1:8642"
_MOST_SHOWN = 100_000


def parser() -> argparse.ArgumentParser:
    """The parser of the whole command."""
    top = argparse.ArgumentParser(
        prog="portero-endpoint", description="A stand-in for the agent on a managed machine, and a fleet of them."
    )
    top.add_argument("--version", action="version", version=f"portero-endpoint {__version__}")
    families = top.add_subparsers(required=True, metavar="COMMAND")
    default = Path(platformdirs.user_data_dir("portero-endpoint"))

    def add(name: str, run: Any, summary: str, example: str, *, lasts: bool = False) -> argparse.ArgumentParser:
        made = families.add_parser(
            name,
            help=summary,
            description=summary,
            epilog=f"Example:\n  {example}",
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        made.set_defaults(run=run, lasts=lasts)
        made.add_argument("--data", type=Path, default=default, metavar="DIR", help="the endpoint's folder")
        return made

    _add_join(add)
    _add_run(add)
    _add_visit(add)
    _add_start(add)
    _add_test_program(add)
    _add_looks(add)
    _add_fleet(add)
    return top


def _add_join(add: Add) -> None:
    example = "portero-endpoint join --code ABCD-EFGH-JKMN-PQRS"
    join = add("join", commands.join, "Join a service with an enrolment code.", example)
    join.add_argument("--service", default=_SERVICE, metavar="URL", help="where the service is")
    join.add_argument("--code", required=True, help="the enrolment code")
    join.add_argument("--facts", type=Path, metavar="FILE", help="facts to report, one mapping as in a facts document")
    join.add_argument("--hostname", help="report this hostname")
    join.add_argument("--unit", help="report this unit, as in brackwater/office")
    join.add_argument("--kind", help="report this kind, as in laptop")
    join.add_argument("--serial", help="report this serial number")
    join.add_argument("--again", action="store_true", help="join as a new device in place of the one that is there")


def _add_run(add: Add) -> None:
    summary = "Keep in touch, filter visits as an HTTP proxy, keep the policy files of browsers, guard program starts."
    run = add("run", commands.run, summary, "portero-endpoint run --port 8700 --browser-policies /etc", lasts=True)
    run.add_argument("--port", type=int, default=8700, help="loopback port of the proxy (8700; 0 takes a free one)")
    run.add_argument("--user", help="whose visits these are")
    run.add_argument("--every", type=float, metavar="SECONDS", help="time between check-ins (as the service asks)")
    run.add_argument(
        "--browser-policies",
        type=Path,
        metavar="DIR",
        help="write site lists for this machine's browsers below this folder: /etc, where they look for them, or"
        " another one to try it out (none are written)",
    )
    looking = run.add_mutually_exclusive_group()
    looking.add_argument(
        "--programs",
        type=Path,
        action="append",
        metavar="DIR",
        help="look for programs below this folder only, and tell of them; may be given again (those of PATH, and /opt)",
    )
    looking.add_argument("--no-programs", action="store_true", help="tell of no programs but those of the facts")
    run.add_argument(
        "--guard",
        type=Path,
        nargs="?",
        const=Path("/"),
        metavar="DIR",
        help="stop programs that may not start, on all file systems, or on those at and below this folder (none are"
        " stopped); needs root",
    )
    run.add_argument(
        "--countdown",
        type=float,
        default=60.0,
        metavar="SECONDS",
        help="how long people have before a program is ended that runs and may not start (60)",
    )
    run.add_argument(
        "--no-errands",
        action="store_true",
        help="refuse to open pages for administrators who ask which hosts a page needs",
    )
    run.add_argument(
        "--no-probes", action="store_true", help="refuse to try probes for administrators who verify what is stopped"
    )
    run.add_argument(
        "--origin",
        type=_ports,
        metavar="HTTP,HTTPS",
        help="loopback ports that stand in for every allowed host, as the demo's web does",
    )


def _add_visit(add: Add) -> None:
    summary = "Decide one visit as the filter would; with --real try it in a browser of this machine."
    visit = add("visit", commands.visit, summary, "portero-endpoint visit --real http://lucky-reef.example/")
    visit.add_argument("url", metavar="URL")
    visit.add_argument("--user", help="who visits")
    visit.add_argument("--real", action="store_true", help="open it in a real browser, without a window")
    visit.add_argument(
        "--browser", choices=get_args(BrowserFamily), default="chromium", help="in which one, with --real (chromium)"
    )
    _add_json(visit)


def _add_start(add: Add) -> None:
    summary = "Start a program where this machine's rules let it; as the guard does, and without root."
    start = add("start", commands.start, summary, "portero-endpoint start tide-table --at noon")
    start.add_argument("--go-on", action="store_true", help="start it where it is only warned of")
    start.add_argument("program", metavar="PROGRAM", help="its path, or its name as the search path finds it")
    start.add_argument("arguments", nargs=argparse.REMAINDER, metavar="…", help="what the program is given")


def _add_test_program(add: Add) -> None:
    summary = "Make a program that does nothing, with a product and a version of your choice, to try starts with."
    example = "portero-endpoint test-program /opt/trial --product 'Deckhand Viewer' --version 4.1"
    made = add("test-program", commands.make_test_program, summary, example)
    made.add_argument("folder", type=Path, metavar="DIR", help="a folder in which programs are looked for")
    made.add_argument("--product", required=True, metavar="NAME", help="what it says it is")
    made.add_argument("--version", default="1.0", metavar="V", help="and of which version (1.0)")


def _add_looks(add: Add) -> None:
    _add_json(add("status", commands.status, "What this endpoint is and holds.", "portero-endpoint status"))
    log = add("log", commands.log, "What was stopped and changed on this machine.", "portero-endpoint log --last 20")
    log.add_argument("--last", type=_count, default=100, metavar="N", help="so many entries (100)")
    _add_json(log)
    add("sync", commands.sync, "Ask the service now for what is new, and apply it.", "portero-endpoint sync")
    summary = "Leave: remove the policy files that are the endpoint's own, and all that it keeps."
    add("leave", commands.leave, summary, "portero-endpoint leave")


def _add_json(command: argparse.ArgumentParser) -> None:
    command.add_argument("--json", action="store_true", help="one JSON document")


def _add_fleet(add: Add) -> None:
    example = "portero-endpoint fleet --plan fleet.json --code ABCD-EFGH-JKMN-PQRS --data /tmp/fleet"
    fleet = add("fleet", commands.fleet, "Run many simulated machines in one process.", example, lasts=True)
    fleet.add_argument("--plan", type=Path, required=True, metavar="FILE", help="which machines, as JSON")
    fleet.add_argument("--service", default=_SERVICE, metavar="URL", help="where the service is")
    fleet.add_argument("--code", help="enrolment code for machines that have not joined yet")


async def _until_told(work: Coroutine[Any, Any, int]) -> int:
    task = asyncio.ensure_future(work)
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, task.cancel)
    try:
        return await task
    except asyncio.CancelledError:
        return commands.DONE


def run(arguments: list[str] | None = None) -> int:
    """Run the command; returns its exit status."""
    top = parser()
    argcomplete.autocomplete(top)
    options = top.parse_args(arguments)
    try:
        work = options.run(options)
        return int(asyncio.run(_until_told(work) if options.lasts else work))
    except ServiceUnreachable as problem:
        commands.say(f"{problem}. Is the service running?")
        return commands.UNREACHABLE
    except (ServiceRefused, NotTaken, NotJoined, BrowserFailed, BadUrl, BadPlan, BadDocument, OSError) as problem:
        commands.say(wording.as_sentence(str(problem)))
        return commands.FAILED
    except ValidationError as problem:
        first = problem.errors()[0]
        commands.say(f"{'.'.join(map(str, first['loc']))}: {first['msg'].removeprefix('Value error, ')}.")
        return commands.USAGE


if __name__ == "__main__":
    sys.exit(run())
