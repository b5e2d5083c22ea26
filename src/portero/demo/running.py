"""`portero demo`: Brackwater Ferries in an embedded store, with service, fleet, one real filter and a made-up web."""

from __future__ import annotations

import json
import shutil
import signal
import subprocess
import sys
import time
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

import httpx
import msgspec

from portero.client import Portero, PorteroError
from portero.core import wording
from portero.core.nouns.run import NewRun
from portero.demo.feeds import start_feeds
from portero.demo.history import ADMINISTRATOR, ADMINISTRATORS, FEEDS, MARK, PASSWORD, DemoProblem, load, machine_folder
from portero.demo.people_and_machines import HANDS_ON, brackwater_fleet, hands_on_facts
from portero.demo.programs_here import programs_folder, put_programs
from portero.demo.web import start_web
from portero.endpoint.test_program import file_name

VERIFIED_AFTER = 75.0
"""Seconds after which the machines have joined, and the probe sets are tried."""


@dataclass
class Demo:
    """The demo's folder, ports and processes."""

    data: Path
    port: int
    with_fleet: bool = True
    _children: list[subprocess.Popen[bytes]] = field(default_factory=list)

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def run(self, fresh: bool) -> None:
        """Set up where needed, start everything, say where to look, and stay until told to stop."""
        signal.signal(signal.SIGTERM, _interrupt)
        if fresh and self.data.exists():
            if not (self.data / MARK).exists() and any(self.data.iterdir()):
                raise DemoProblem(f"{self.data} does not look like a demo's folder; name another with --data")
            shutil.rmtree(self.data)
        code = load(self.data, self.url)
        try:
            self._start(code)
            print(self._welcome(), flush=True)
            self._watch()
        except KeyboardInterrupt:
            print("\nStopping; what the demo holds stays in " + str(self.data), flush=True)
        finally:
            self._stop()

    def _start(self, code: str) -> None:
        web = start_web(self.data, self.port + 1, self.port + 2)
        start_feeds(self.port + FEEDS)
        self._spawn("service", "portero.cli.main", "serve", "--data", self.data, "--port", self.port, "--quiet")
        self._await_service()
        machine = machine_folder(self.data, HANDS_ON)
        if not (machine / "device.json").exists():
            facts = self.data / "hands-on.json"
            facts.write_text(json.dumps(hands_on_facts()))
            join = ("join", "--service", self.url, "--code", code, "--facts", facts, "--data", machine)
            subprocess.run(_command("portero.endpoint.main", *join), check=True, stdout=subprocess.DEVNULL)
        run = ("run", "--data", machine, "--port", self.port + 3, "--user", "watch-2", "--every", 30)
        programs = put_programs(self.data)
        browsers = ("--browser-policies", self.data / "browser-policies", "--programs", programs, "--guard", programs)
        self._spawn("filter", "portero.endpoint.main", *run, *browsers, "--origin", f"{web[0]},{web[1]}")
        if self.with_fleet:
            plan = self.data / "fleet.json"
            plan.write_bytes(msgspec.json.encode(brackwater_fleet()))
            fleet = ("fleet", "--plan", plan, "--service", self.url, "--code", code)
            self._spawn("fleet", "portero.endpoint.main", *fleet, "--data", self.data / "machines")

    def _spawn(self, name: str, module: str, *arguments: object) -> None:
        log = (self.data / f"{name}.log").open("ab")
        self._children.append(
            subprocess.Popen(_command(module, *arguments), stdin=subprocess.DEVNULL, stdout=log, stderr=log)
        )

    def _await_service(self) -> None:
        deadline = time.monotonic() + 30
        while time.monotonic() < deadline:
            if self._children[0].poll() is not None:
                lines = (self.data / "service.log").read_text(errors="replace").strip().splitlines()
                raise DemoProblem(lines[-1] if lines else "the service ended at once")
            try:
                if httpx.get(self.url + "/readyz", trust_env=False, timeout=2).status_code == 200:
                    return
            except httpx.HTTPError:
                time.sleep(0.05)
        raise DemoProblem("the service did not come up within 30 seconds; see service.log in the demo's folder")

    def _watch(self) -> None:
        verifies_at = time.monotonic() + VERIFIED_AFTER if self.with_fleet else None
        while True:
            time.sleep(0.5)
            if verifies_at is not None and time.monotonic() > verifies_at:
                verifies_at = None
                self._verify()
            for child in self._children:
                if child.poll() is not None:
                    raise DemoProblem(f"a part of the demo has ended; see the *.log files in {self.data}")

    def _verify(self) -> None:
        """Try the probe sets once the machines are there, at the first start."""
        with suppress(PorteroError), Portero(self.url) as portero:
            portero.access.sign_in(ADMINISTRATOR, PASSWORD, label="the demo")
            if next(portero.runs.list(1), None) is None:
                portero.runs.create(NewRun())
            portero.access.sign_out()

    def _stop(self) -> None:
        for child in reversed(self._children):
            child.terminate()
        for child in self._children:
            try:
                child.wait(10)
            except subprocess.TimeoutExpired:
                child.kill()

    def _welcome(self) -> str:
        proxy = self.port + 3
        return f"""
Brackwater Ferries is up.

  Console          {self.url}/console/
  Sign in          {ADMINISTRATOR} / {PASSWORD}
                   with the same password: {_OTHERS}
  Command line     portero sign-in --url {self.url} --name {ADMINISTRATOR}
                   portero readiness
                   portero verify
                   portero why {HANDS_ON} https://reeltide.example/
                   portero check visit {HANDS_ON} https://reeltide.example/
  A real filter    {HANDS_ON} listens as an HTTP proxy on 127.0.0.1:{proxy}
                   chromium --user-data-dir=/tmp/portero-browser --proxy-server=http://127.0.0.1:{proxy} \\
                     http://lucky-reef.example/
                   portero-endpoint visit --real --data {machine_folder(self.data, HANDS_ON)} \\
                     --browser firefox https://reeltide.example/
  Programs         harmless ones below {programs_folder(self.data)}
                   as root {HANDS_ON} really stops Deckhand Viewer 4.1 there; without, where it is asked:
                   portero-endpoint start --data {machine_folder(self.data, HANDS_ON)} \\
                     {programs_folder(self.data) / file_name("Deckhand_Viewer", "4.1")}
  Feeds            stand-ins on 127.0.0.1:{self.port + FEEDS}, fetched by the service:
                   portero feed list
  Data             {self.data}   (--fresh starts over)

Machines join within a minute at the first start. Stop with Ctrl-C."""


_OTHERS = wording.joined([f"{one.name} ({one.role})" for one in ADMINISTRATORS[1:]])


def _interrupt(_number: int, _frame: object) -> None:
    raise KeyboardInterrupt


def _command(module: str, *arguments: object) -> list[str]:
    return [sys.executable, "-m", module, *map(str, arguments)]
