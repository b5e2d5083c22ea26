"""Real processes on loopback for the tests: the service, endpoints, the made-up web, browsers."""

from __future__ import annotations

import asyncio
import contextlib
import io
import os
import re
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Coroutine, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

import httpx
import pytest
from hypothesis import settings

from portero.cli import main as portero_command
from portero.client import Portero
from portero.core.nouns.assignment import NewAssignment
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.group import Group
from portero.core.nouns.ruleset import Ruleset
from portero.core.resolving.documents import Shelf
from portero.endpoint import main as endpoint
from portero.formats.bundles import Reader
from portero.formats.manifests import open_manifest

sys.path.insert(0, str(Path(__file__).parent))

from serving import Served, make_keeper_in

Result = TypeVar("Result")

# the same examples each time, so that a run on the same code says the same; `make explore` looks for others
settings.register_profile("repeatable", derandomize=True, deadline=None)
settings.register_profile("explore", deadline=None)
settings.load_profile("repeatable")

# pytest's workers say that lines have 80 columns, which is nobody's terminal here
os.environ.pop("COLUMNS", None)


LONGEST_FIRST = ("journeys", "browsers", "console", "endpoint", "cli", "core", "service")
"""The folders whose files take longest begin first, so that no worker waits long for another one at the end."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Put them in that order. A file stays on one worker (`--dist loadfile`), as its tests share a service."""
    ranks = {folder: rank for rank, folder in enumerate(LONGEST_FIRST)}
    items.sort(key=lambda item: ranks.get(item.path.parent.name, len(ranks)))


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """Tell what tests have to tell beside that they passed: how many navigations agreed with the real browsers."""
    for report in (*terminalreporter.stats.get("passed", ()), *terminalreporter.stats.get("failed", ())):
        for name, value in report.user_properties:
            if name == "summary":
                terminalreporter.write_line(str(value))


class Process:
    """A program of ours, with its output read as it comes."""

    def __init__(self, *command: object, env: dict[str, str] | None = None, without: str = "") -> None:
        """`without` names a capability of Linux that it is not to have."""
        dropped = ["setpriv", f"--bounding-set=-{without}", f"--inh-caps=-{without}"] if without else []
        self.lines: list[str] = []
        self._came = threading.Condition()
        self._process = subprocess.Popen(
            [*dropped, sys.executable, "-m", *map(str, command)],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            env={**os.environ, **(env or {})},
        )
        threading.Thread(target=self._read, daemon=True).start()

    def _read(self) -> None:
        assert self._process.stdout
        for line in self._process.stdout:
            with self._came:
                self.lines.append(line.rstrip("\n"))
                self._came.notify_all()
        with self._came:
            self.lines.append("")
            self._came.notify_all()

    @property
    def pid(self) -> int:
        """Its number."""
        return self._process.pid

    def wait_for(self, pattern: str, timeout: float = 60) -> re.Match[str]:
        """The first line that matches, now or as soon as it comes."""
        deadline = time.monotonic() + timeout
        seen = 0
        with self._came:
            while True:
                for line in self.lines[seen:]:
                    seen += 1
                    if found := re.search(pattern, line):
                        return found
                left = deadline - time.monotonic()
                if left <= 0 or (self._process.poll() is not None and seen == len(self.lines)):
                    raise AssertionError(f"no line matches {pattern!r}; it said:\n" + "\n".join(self.lines[-20:]))
                self._came.wait(min(left, 0.5))

    def stop(self) -> int:
        """Ask it to end; its exit status."""
        self._process.terminate()
        return self._process.wait(15)

    def kill(self) -> None:
        """SIGKILL: no chance to tidy up."""
        self._process.kill()
        self._process.wait(15)


class Service(Process):
    """The service as a real process."""

    def __init__(self, data: Path, port: int = 0, password: str = "", env: dict[str, str] | None = None) -> None:
        password = make_keeper_in(data) or password
        super().__init__("portero.cli.main", "serve", "--data", data, "--port", port, env=env)
        self.data = data
        self.url = self.wait_for(r"listens on (http://127\.0\.0\.1:\d+)").group(1)
        self.port = int(self.url.rpartition(":")[2])
        self.password = password

    def client(self, name: str = "keeper", password: str | None = None) -> Portero:
        """A client that is signed in."""
        portero = Portero(self.url)
        portero.access.sign_in(name, password or self.password, label="tests")
        return portero


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    """A service with an empty store, one for each module, in this process."""
    running = Served.of(tmp_path_factory.mktemp("service"))
    yield running
    running.stop()


@pytest.fixture(scope="module")
def portero(service: Served) -> Iterator[Portero]:
    """A client of the service, signed in as the first keeper."""
    with service.client() as client:
        yield client


@pytest.fixture
def join(service: Served, portero: Portero, tmp_path: Path) -> Callable[..., Path]:
    """Makes an endpoint that has joined; returns its folder."""

    def make(hostname: str, unit: str = "brackwater/office", kind: str = "laptop", **labels: str) -> Path:
        code = portero.enrolment.create_code(NewEnrolmentCode(labels=labels)).code
        folder = tmp_path / hostname
        run_endpoint(
            *("join", "--service", service.url, "--code", code, "--data", folder),
            *("--hostname", hostname, "--unit", unit, "--kind", kind),
        )
        return folder

    return make


class Wire:
    """A device that speaks raw HTTP."""

    def __init__(self, service, portero, hostname: str, **facts: object) -> None:
        self.code = portero.enrolment.create_code(NewEnrolmentCode(uses=1)).code
        self.http = httpx.Client(base_url=service.url + "/device/v1", timeout=40)
        self.facts = {"hostname": hostname, "unit": "brackwater/office", **facts}
        joined = self.http.post("/join", json={"code": self.code, "facts": self.facts}).json()
        self.id, self.key = joined["device"], joined["signing_key"]
        self.http.headers["Authorization"] = "Bearer " + joined["credential"]

    def check_in(self, **message: object) -> httpx.Response:
        return self.http.post("/check-in", json={"manifests": [1, 2], "bundles": [1, 2, 3], **message})

    def sync(self):
        """Take what the service offers; the bundle."""
        offered = self.check_in().json()
        manifest = open_manifest(offered["manifest"], self.key)
        packed = self.http.get("/bundle/" + manifest.bundle).content
        assert self.check_in(have=offered["bundle"], revision=offered["revision"]).status_code == 204
        assert open_manifest(offered["manifest"], self.key).name == offered["bundle"]
        return self.reader.bundle(packed, manifest.bundle), offered

    @property
    def reader(self) -> Reader:
        """Reads bundles, with their parts from the service."""
        return Reader(Shelf(), lambda digest: self.http.get("/part/" + digest).content)


class Ended(NamedTuple):
    """What a program said, and the status with which it ended."""

    returncode: int
    stdout: str
    stderr: str


def run_endpoint(*arguments: object, expect: int = 0) -> Ended:
    """Run `portero-endpoint` to its end, in a thread of this process: a browser's loop may hold the main one."""
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(_call, endpoint.run, arguments, expect).result()


def run_portero(
    *arguments: object, expect: int = 0, env: dict[str, str] | None = None, input: str | None = None
) -> Ended:
    """Run `portero` to its end, in this process."""
    return _call(portero_command.run, arguments, expect, env, input)


def start(
    module: str, *arguments: object, expect: int = 0, env: dict[str, str] | None = None, input: str | None = None
) -> Ended:
    """Run a program to its end as a process of its own, as a shell does."""
    done = subprocess.run(
        [sys.executable, "-m", module, *map(str, arguments)],
        capture_output=True,
        text=True,
        env={**os.environ, **(env or {})},
        input=input,
        stdin=None if input is not None else subprocess.DEVNULL,
        timeout=60,
        check=False,
    )
    assert "Traceback" not in done.stderr, done.stderr
    return _as_expected(Ended(done.returncode, done.stdout, done.stderr), expect)


def _call(
    run: Callable[[list[str]], int],
    arguments: Sequence[object],
    expect: int,
    env: dict[str, str] | None = None,
    input: str | None = None,
) -> Ended:
    out, err = (io.TextIOWrapper(io.BytesIO(), encoding="utf-8", write_through=True) for _ in range(2))
    given = io.TextIOWrapper(io.BytesIO((input or "").encode()), encoding="utf-8")
    with (
        pytest.MonkeyPatch.context() as patched,
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
    ):
        for name, value in (env or {}).items():
            patched.setenv(name, value)
        patched.setattr(sys, "stdin", given)
        try:
            status = run([*map(str, arguments)])
        except SystemExit as ended:
            status = ended.code if isinstance(ended.code, int) else 0
    said, complained = (stream.buffer.getvalue().decode() for stream in (out, err))  # type: ignore[attr-defined]
    return _as_expected(Ended(status, said, complained), expect)


def _as_expected(ended: Ended, expect: int) -> Ended:
    assert ended.returncode == expect, f"exit {ended.returncode}\n{ended.stdout}\n{ended.stderr}"
    return ended


def eventually(check: Callable[[], object], timeout: float = 15, pause: float = 0.05) -> object:
    """The check's first true answer."""
    deadline = time.monotonic() + timeout
    while not (answer := check()):
        assert time.monotonic() < deadline, "it never came about"
        time.sleep(pause)
    return answer


def run_async(work: Coroutine[Any, Any, Result]) -> Result:
    """What the coroutine comes to. It runs in a thread of its own: the browser's loop may hold this one."""
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(asyncio.run, work).result()


def signed(portero: Portero) -> dict[str, str]:
    """The headers by which raw requests are the client's own."""
    return {"Authorization": f"Bearer {portero._connection.transport.token}"}


def group(key: str, **members: list[dict[str, object]]) -> Group:
    """A group by conditions."""
    return Group.model_validate({"key": key, "members": members or None})


def under(unit: str) -> dict[str, object]:
    """The condition of being in a unit."""
    return {"field": "unit", "op": "under", "value": unit}


def ruleset(key: str, **actions: str) -> Ruleset:
    """A ruleset by category: `ruleset("quiet", music="block", family_pastime="warn", everything="log")`."""
    rules: list[dict[str, object]] = []
    for subject, action in actions.items():
        name = subject.replace("_", "-")
        if name == "everything":
            rules.append({"everything": True, "action": action})
        elif name.startswith("family-"):
            rules.append({"family": name.removeprefix("family-"), "action": action})
        else:
            rules.append({"category": name, "action": action})
    return Ruleset.model_validate({"key": key, "kind": "category", "rules": rules})


def assignment(ruleset: str, *to: str, **more: object) -> NewAssignment:
    """A ruleset on groups."""
    return NewAssignment.model_validate({"ruleset": ruleset, "to": list(to), **more})


@pytest.fixture(scope="session")
def browser_type_launch_args() -> dict[str, object]:
    """Debian's Chromium, quiet: it asks nobody outside."""
    return {
        "executable_path": "/usr/bin/chromium",
        "args": [
            *("--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking"),
            *("--disable-component-update", "--disable-sync", "--disable-extensions"),
            "--disable-component-extensions-with-background-pages",
        ],
    }


@pytest.fixture(scope="session")
def browser_context_args() -> dict[str, object]:
    """One size, language and zone for all pictures and tests."""
    return {
        "viewport": {"width": 1280, "height": 800},
        "reduced_motion": "reduce",
        "locale": "en-GB",
        "timezone_id": "UTC",
        "ignore_https_errors": True,
    }
