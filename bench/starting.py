"""What it costs to start the command line: processor time of whole processes, beside a bare one."""

from __future__ import annotations

import os
import re
import resource
import sys
import tempfile
from pathlib import Path

import httpx

import portero.service.app
from bench.measuring import Figure, Measurement, Row, in_turns
from serving import TOKEN, Served, let_in

BARE = ("-c", "import argparse, json, http.client")
PORTERO = ("-m", "portero.cli.main")


def processor_time(environment: dict[str, str], *arguments: str) -> Measurement:
    """Measures the user time of a process, Python with these arguments."""

    def once() -> list[float]:
        before = resource.getrusage(resource.RUSAGE_CHILDREN).ru_utime
        null = os.open(os.devnull, os.O_WRONLY)
        outlets = [(os.POSIX_SPAWN_DUP2, null, 1), (os.POSIX_SPAWN_DUP2, null, 2)]
        child = os.posix_spawn(sys.executable, [sys.executable, *arguments], environment, file_actions=outlets)
        os.waitpid(child, 0)
        os.close(null)
        return [resource.getrusage(resource.RUSAGE_CHILDREN).ru_utime - before]

    return once


FIRST_VIEW = ("session", "findings", "worklist", "readiness", "rollout", "taxonomy", "rulesets", "groups")


def first_view(served: Served) -> list[Figure]:
    """What the console's first view takes over the wire: the page, its scripts and styles, what the overview asks."""
    console = Path(portero.service.app.__file__).parent / "console"
    page = (console / "index.html").read_text()
    paths = ["/console/", *re.findall(r'(?:src|href)="(/console/[^"]+)"', page)]
    paths += [f"/api/v1/{name}" for name in FIRST_VIEW]
    sizes = []
    for packing in ("gzip", "identity"):
        headers = {"Authorization": f"Bearer {TOKEN}", "Accept-Encoding": packing}
        with httpx.Client(base_url=served.url, headers=headers) as http:
            sizes.append(sum(_on_the_wire(http, path) for path in paths))
    packed, plain = sizes
    return [
        Figure("the console's first view on the wire", packed / 1000, "kB"),
        Figure("the same, of what it is unpacked", packed / plain, "of 1", at_most=0.4),
    ]


def _on_the_wire(http: httpx.Client, path: str) -> int:
    with http.stream("GET", path) as answer:
        return sum(map(len, answer.iter_raw()))


def starting_rows(rounds: int) -> list[Row | Figure]:
    """Help, wrong usage, completion, and a call to a service."""
    with tempfile.TemporaryDirectory() as folder:
        served = Served.of(Path(folder, "data"))
        let_in(served.keepers)
        environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
        environment |= {"PORTERO_URL": served.url, "PORTERO_TOKEN": TOKEN, "XDG_CONFIG_HOME": folder}
        line = "portero assignment pa"
        completing = {"_ARGCOMPLETE": "1", "COMP_LINE": line, "COMP_POINT": str(len(line)), "_ARGCOMPLETE_IFS": "\n"}
        completing |= {"_ARGCOMPLETE_STDOUT_FILENAME": os.devnull}

        def portero(*arguments: str, **more: str) -> Measurement:
            return processor_time(environment | more, *PORTERO, *arguments)

        bare, helped, refused, completed, called = in_turns(
            rounds,
            processor_time(environment, *BARE),
            portero("--help"),
            portero("rulset"),
            portero(**completing),
            portero("group", "list"),
        )
        view = first_view(served)
        served.stop()
    return [
        Row("floor: Python with argparse, json, http.client", bare),
        Row("portero --help", helped, bare.median, goal=2),
        Row("wrong usage", refused, bare.median, goal=2),
        Row("completion", completed, bare.median, goal=2),
        Row("portero group list, answered by a service", called, bare.median, goal=8),
        *view,
    ]
