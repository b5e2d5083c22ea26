"""A site list from a command to real browsers on a machine, pushed; mended there when somebody is at it; and back."""

from __future__ import annotations

import json
import os
import threading
import time
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest

from chromium_watch import await_watch
from conftest import Process, eventually, group, run_endpoint, run_portero, under
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.endpoint.browsers.visiting import driven, outcome_of, the_browser

pytestmark = [
    pytest.mark.browser,
    pytest.mark.process,
    pytest.mark.skipif(os.geteuid() != 0, reason="only root can show a browser another policy folder than /etc"),
]
OPEN = ("tickets.example", "timetable.example", "find.example")
CLOSED = "reading-room.example"
PAGES = {
    "/results": f"<a id=go href='http://{CLOSED}/from-link'>a result</a><script>onload = () => go.click()</script>",
    "/": "a page",
}


class Web:
    """All sites at once. It knows which pages it was asked for."""

    def __init__(self) -> None:
        web, self.asked = self, list[str]()

        class Site(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                host = (self.headers.get("Host") or "").partition(":")[0]
                web.asked.append(host + self.path)
                body = PAGES.get(self.path, "a page").encode()
                self.send_response(302 if self.path == "/hop" else 200)
                if self.path == "/hop":
                    self.send_header("Location", f"http://{CLOSED}/from-hop")
                self.send_header("Content-Type", "text/html")
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            def log_message(self, format: str, *args: object) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Site)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()


class Desk:
    """The command line of an administrator, and one machine that runs its endpoint."""

    def __init__(self, service, folder: Path) -> None:
        self.env = {"XDG_CONFIG_HOME": str(folder / "config")}
        self.machine, self.policies = folder / "machine", folder / "policies"
        self.web = Web()
        self.portero(
            *("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin"), input=service.password + "\n"
        )

    def portero(self, *arguments: object, input: str | None = None) -> str:
        return run_portero(*arguments, env=self.env, input=input).stdout

    def endpoint(self, *arguments: object) -> str:
        return run_endpoint(*arguments, "--data", self.machine).stdout

    @property
    def own_file(self) -> Path:
        return self.policies / "chromium/policies/managed/portero.json"


@pytest.fixture
def desk(service, portero, tmp_path) -> Iterator[Desk]:
    portero.groups.create(group("mess", all=[under("brackwater/ships")]))
    made = Desk(service, tmp_path)
    code = portero.enrolment.create_code(NewEnrolmentCode()).code
    made.endpoint(
        "join", "--service", service.url, "--code", code, "--hostname", "mess-01", "--unit", "brackwater/ships"
    )
    port = made.web.server.server_port
    running = Process(
        *("portero.endpoint.main", "run", "--data", made.machine, "--port", 0, "--every", 60, "--no-programs"),
        *("--origin", f"{port},{port}", "--browser-policies", made.policies),
    )
    made.port = int(running.wait_for(r"127\.0\.0\.1:(\d+)").group(1))
    yield made
    running.stop()
    made.web.server.shutdown()


def took(is_so: Callable[[], bool], within: float) -> float:
    """How many seconds it took."""
    began = time.monotonic()
    # a Chromium that opens page after page puts its policy off
    eventually(is_so, timeout=within, pause=2.7)
    return round(time.monotonic() - began, 1)


def test_all_but_three_sites_are_closed_pushed_mended_and_opened_again(desk, portero, record_property):
    # the folder is shown to the browser as it starts
    (desk.policies / "chromium/policies").mkdir(parents=True)
    with driven(the_browser("chromium"), desk.policies, desk.port) as chromium:

        def stopped(url: str) -> bool:
            return outcome_of(chromium.go(url))[:2] == ("stopped", "browser")

        assert not stopped(f"http://{CLOSED}/")
        await_watch(desk.policies / "chromium/policies")

        desk.portero("ruleset", "create", "mess-sites", "--kind", "site")
        desk.portero("rule", "add", "mess-sites", "pattern", "*", "--action", "block")
        for host in OPEN:
            desk.portero("rule", "add", "mess-sites", "pattern", host, "--action", "allow")
        desk.portero("assign", "mess-sites", "--to", "mess", "--reason", "the reading room is shut")
        said = desk.portero("push", "--group", "mess")
        assert "The machine holds what it should." in said
        closed = took(lambda: stopped(f"http://{CLOSED}/"), within=90)
        assert [stopped(f"http://{host}/") for host in OPEN] == [False, False, False]

        desk.web.asked.clear()
        assert stopped("http://find.example/hop"), "a redirect"
        assert not stopped("http://find.example/results")
        time.sleep(1.5)
        assert desk.web.asked.count("find.example/results") == 1
        assert not [one for one in desk.web.asked if one.startswith(CLOSED)], "neither by a link nor by a redirect"

        tried = json.loads(desk.endpoint("visit", "--real", "--browser", "firefox", f"http://{CLOSED}/", "--json"))
        assert (tried["outcome"], tried["layer"], tried["browser"]) == ("stopped", "browser", "firefox")
        tried = json.loads(desk.endpoint("visit", "--real", "--browser", "firefox", f"http://{OPEN[0]}/", "--json"))
        assert (tried["outcome"], tried["layer"]) == ("opened", None)

        desk.own_file.unlink()
        back = took(desk.own_file.exists, within=60)
        eventually(lambda: "removed at" in " ".join(desk.portero("device", "show", "mess-01").split()), timeout=60)
        shown = desk.portero("device", "show", "mess-01")
        assert "portero" in shown
        assert "tampered" in shown
        assert "was removed; it is put right" in desk.endpoint("log")

        desk.portero("assignment", "pause", "mess-sites--mess")
        desk.portero("push", "mess-01")
        opened = took(lambda: not stopped(f"http://{CLOSED}/"), within=90)
    record_property(
        "summary",
        f"site list: closed in Chromium {closed} s after the push, back {back} s after it was deleted,"
        f" open {opened} s after the next push",
    )
