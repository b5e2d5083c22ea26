"""The endpoint stand-in: it keeps the last good bundle whatever happens, and its filter does what it decides."""

from __future__ import annotations

import json
import socket
import stat
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Thread

import httpx
import pytest

from conftest import Process, assignment, eventually, group, ruleset, run_async, run_endpoint, start, under
from portero.core.nouns.settings import GroupLayers, Settings
from portero.demo.web import start_web
from portero.endpoint.agent import Agent
from portero.endpoint.calls import NotTaken, ServiceUnreachable
from portero.endpoint.commands import take_first
from portero.endpoint.filter import Filter
from portero.endpoint.folder import Folder
from portero.endpoint.running import new_http

pytestmark = pytest.mark.process


@pytest.fixture(scope="module")
def policy(portero):
    portero.groups.create(group("office", all=[under("brackwater/office")]))
    portero.rulesets.create(ruleset("rules", gambling="block", video_streaming="warn", webmail="log"))
    return portero.assignments.create(assignment("rules", "office"))


@pytest.fixture(scope="module")
def web(tmp_path_factory):
    return start_web(tmp_path_factory.mktemp("web"), 0, 0)


@pytest.fixture
def proxy(policy, join, web, request):
    """A running endpoint: its process, its folder and a client behind its filter."""
    folder = join(f"proxied-{abs(hash(request.node.name)) % 100_000}")
    running = Process(
        *("portero.endpoint.main", "run", "--data", folder, "--port", 0, "--user", "office-1", "--no-programs"),
        *("--origin", f"{web[0]},{web[1]}", "--every", 5),
    )
    url = "http://127.0.0.1:" + running.wait_for(r"HTTP proxy on 127\.0\.0\.1:(\d+)").group(1)
    with httpx.Client(proxy=url, verify=False, timeout=10) as browser:
        yield running, folder, browser
    running.stop()


def rule(folder, url="http://lucky-reef.example/"):
    return json.loads(run_endpoint("visit", url, "--data", folder, "--json").stdout)


def status(folder):
    return json.loads(run_endpoint("status", "--data", folder, "--json").stdout)


def test_plain_http_to_a_blocked_host_gets_the_notice_and_the_reference_finds_the_record(proxy, portero):
    _, _, browser = proxy
    answer = browser.get("http://lucky-reef.example/slots?x=1")
    assert answer.status_code == 403
    assert "Your organisation does not open lucky-reef.example" in answer.text
    assert "Gambling" in answer.text
    reference = answer.text.partition("<code>")[2].partition("</code>")[0]
    found = eventually(lambda: list(portero.activity.list(reference=reference)))[0]
    assert (found.verdict, found.user, found.url) == ("block", "office-1", "http://lucky-reef.example/slots?x=1")
    assert (found.winner.ruleset, found.winner.target) == ("rules", "office")


def test_https_to_a_blocked_host_is_refused_at_the_tunnel_and_allowed_ones_pass(proxy):
    _, _, browser = proxy
    with pytest.raises(httpx.ProxyError, match="403"):
        browser.get("https://lucky-reef.example/")
    assert "nothing stopped you" in browser.get("https://fleet-weather.example/today").text
    assert "nothing stopped you" in browser.get("http://fleet-weather.example/today").text
    assert browser.post("http://fleet-weather.example/form", content=b"x" * 100_000).status_code == 200
    assert browser.head("http://fleet-weather.example/").status_code == 200


def test_a_warned_person_may_go_on_and_is_not_asked_again(proxy, portero):
    _, _, browser = proxy
    answer = browser.get("http://reeltide.example/film")
    assert "Do you want to open reeltide.example?" in answer.text
    link = answer.text.partition('href="')[2].partition('"')[0]
    gone_on = browser.get(link, follow_redirects=True)
    assert "nothing stopped you" in gone_on.text
    assert "nothing stopped you" in browser.get("http://reeltide.example/more").text
    assert "no longer open" in browser.get(link).text, "a notice is good once"
    eventually(lambda: any(one.continued for one in portero.activity.list(host="reeltide.example")))


def test_what_is_only_recorded_passes_and_is_recorded(proxy, portero):
    _, _, browser = proxy
    assert browser.get("http://webmail.category.test/").status_code == 200
    found = eventually(lambda: list(portero.activity.list(host="webmail.category.test", tests=True)))[0]
    assert (found.verdict, found.logged, found.test) == ("allow", True, True)


@pytest.mark.parametrize(
    "sent",
    [
        b"nonsense\r\n\r\n",
        b"GET http://a b.example/ HTTP/1.1\r\nHost: x\r\n\r\n",
        b"CONNECT nowhere HTTP/1.1\r\nHost: x\r\n\r\n",
        b"CONNECT x.example:99999 HTTP/1.1\r\nHost: x\r\n\r\n",
        b"GET http://x.example/ HTTP/1.1\r\nHost: x\r\nX: " + b"y" * 200_000 + b"\r\n\r\n",
        b"\x16\x03\x01\x02\x00",
    ],
)
def test_nonsense_does_not_harm_the_filter(proxy, sent):
    _, _, browser = proxy
    port = int(str(browser._mounts[next(iter(browser._mounts))]._pool._proxy_url.port))
    with socket.create_connection(("127.0.0.1", port), timeout=5) as raw:
        raw.sendall(sent)
        raw.shutdown(socket.SHUT_WR)
        answer = raw.recv(1000)
    assert answer == b"" or answer.startswith((b"HTTP/1.1 4", b"HTTP/1.1 5"))
    assert browser.get("http://fleet-weather.example/").status_code == 200


def test_a_change_takes_hold_within_seconds_and_the_service_being_away_changes_nothing(proxy, portero, policy):
    running, folder, browser = proxy
    assert browser.get("http://lucky-reef.example/").status_code == 403
    portero.assignments.set_state(policy.key, "paused")
    eventually(lambda: browser.get("http://lucky-reef.example/").status_code == 200, timeout=8)
    portero.assignments.set_state(policy.key, "active")
    eventually(lambda: browser.get("http://lucky-reef.example/").status_code == 403, timeout=8)
    identity = json.loads((folder / "device.json").read_text())
    running.kill()
    (folder / "device.json").write_text(json.dumps({**identity, "service": "http://127.0.0.1:9"}))
    before = status(folder)["activity waiting"]
    assert rule(folder)["verdict"] == "block", "offline, after a kill, the last good bundle holds"
    assert status(folder)["activity waiting"] == before + 1


def test_what_it_keeps_is_its_owners_only(policy, join):
    folder = join("private")
    for file in (folder / "device.json", folder / "manifest.jws"):
        assert stat.S_IMODE(file.stat().st_mode) == 0o600
    assert "credential" not in run_endpoint("status", "--data", folder, "--json").stdout


@pytest.mark.parametrize("tampering", ["bundle", "manifest", "unsigned", "gone"])
def test_a_tampered_folder_is_noticed(policy, join, tampering):
    folder = join(f"tampered-{tampering}")
    bundle = next((folder / "bundles").iterdir())
    manifest = folder / "manifest.jws"
    if tampering == "bundle":
        bundle.write_bytes(bundle.read_bytes()[:-1] + b"\x00")
    elif tampering == "manifest":
        manifest.write_text(manifest.read_text()[:-6] + "AAAAAA")
    elif tampering == "unsigned":
        manifest.write_text("eyJhbGciOiJub25lIn0." + manifest.read_text().split(".")[1] + ".")
    else:
        bundle.unlink()
    told = status(folder)
    assert "cannot be trusted" in told["problem"]
    assert told["revision"] is None


class Impostor(BaseHTTPRequestHandler):
    """A service that offers whatever a test gives it."""

    answers: dict[str, tuple[int, bytes]] = {}

    def do_POST(self):
        self.rfile.read(int(self.headers.get("Content-Length") or 0))
        self._answer()

    def do_GET(self):
        self._answer()

    def _answer(self):
        kind = self.path.split("/")[3].partition("?")[0]
        status, body = self.answers.get(kind, (500, b"{}"))
        self.send_response(status)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_):
        pass


@pytest.fixture
def impostor():
    server = ThreadingHTTPServer(("127.0.0.1", 0), Impostor)
    Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()
    Impostor.answers = {}


@pytest.mark.parametrize("offer", ["unsigned", "altered bundle", "older", "nonsense", "error", "withdrawn"])
def test_whatever_the_service_sends_the_last_good_bundle_stays(policy, join, impostor, offer, service, portero):
    folder = join(f"lied-to-{offer.replace(' ', '-')}")
    good = (folder / "manifest.jws").read_text()
    identity = Folder(folder).identity()
    if offer == "older":
        portero.rulesets.create(ruleset("newer", news="warn"))
        made = portero.assignments.create(assignment("newer", "office"))
        run_async(_check_in(folder))
        portero.assignments.remove(made.key)
        portero.rulesets.remove("newer")
    held = (folder / "manifest.jws").read_text()
    _, payload, _ = good.split(".")
    manifest = {
        "unsigned": f"eyJhbGciOiJub25lIn0.{payload}.",
        "altered bundle": None,
        "older": good,
        "nonsense": "x.y.z",
        "error": good,
        "withdrawn": held,
    }[offer]
    if offer in ("altered bundle", "withdrawn"):
        run_async(_check_in(folder))
        next((folder / "bundles").iterdir()).unlink()
        manifest = held
    Impostor.answers = {
        "check-in": (500 if offer == "error" else 200, json.dumps({"manifest": manifest}).encode()),
        # withdrawn: another bundle took its place between the check-in and the fetching
        "bundle": (404, b"{}") if offer == "withdrawn" else (200, b"(\xb5/\xfd not a bundle"),
    }
    lied = Folder(folder)
    identity.service = impostor
    lied.keep_identity(identity)
    problem = run_async(_check_in(folder))
    assert problem
    assert (folder / "manifest.jws").read_text() == held
    if offer not in ("altered bundle", "withdrawn"):
        assert rule(folder)["verdict"] == "block"


async def _check_in(folder) -> str | None:
    async with new_http() as http:
        agent = Agent(Folder(folder), http)
        try:
            await agent.check_in()
        except (ServiceUnreachable, NotTaken) as problem:
            return str(problem)
        return agent.problem


def test_activity_waits_while_the_service_is_away_and_is_never_sent_twice_as_new(policy, join, service, portero):
    folder = join("away")
    kept = Folder(folder).identity()
    away = Folder(folder).identity()
    away.service = "http://127.0.0.1:9"
    Folder(folder).keep_identity(away)
    for _ in range(3):
        rule(folder)
    Folder(folder).keep_identity(kept)

    async def hand_over() -> None:
        async with new_http() as http:
            agent = Agent(Folder(folder), http)
            before = agent.queue.next_batch()
            agent.queue.close()
            agent = Agent(Folder(folder), http)
            assert agent.queue.next_batch() == before, "a batch that was not acknowledged stays the same"
            await agent.report()
            assert agent.queue.next_batch() is None

    run_async(hand_over())
    assert len(list(portero.activity.list(device="away"))) == 3


def test_commands_tell_what_is_missing(tmp_path):
    assert "run “portero-endpoint join” first" in run_endpoint("status", "--data", tmp_path / "none", expect=1).stderr
    away = run_endpoint("join", "--service", "http://127.0.0.1:9", "--code", "X", "--data", tmp_path / "a", expect=4)
    assert "Is the service running?" in away.stderr
    (tmp_path / "plan").write_text('{"portero_fleet": 1, "devices": [{"fcats": {}}]}')
    fleet = ("fleet", "--plan", tmp_path / "plan", "--data", tmp_path / "f")
    told = start("portero.endpoint.main", *fleet, expect=1).stderr
    assert "fcats" in told


def test_a_filter_rules_without_a_bundle_by_letting_pass(policy, join):
    folder = join("empty-handed")
    (folder / "manifest.jws").unlink()

    async def judge():
        async with new_http() as http:
            return Filter(Agent(Folder(folder), http)).judge("http://lucky-reef.example/", None)

    assert run_async(judge()).verdict == "allow"


def test_layer_modes_and_gateways_take_hold_on_the_machine_and_are_reported(policy, join, portero):
    folder = join("moded")
    assert rule(folder)["verdict"] == "block"
    portero.layer_modes.put(GroupLayers(group="office", filter="observing"))
    assert run_async(_check_in(folder)) is None
    told = rule(folder)
    assert (told["verdict"], told["layer"]["logged"][0]["ruleset"]) == ("allow", "rules")
    assert portero.devices.get("moded").facts.layers.filter == "observing"
    found = eventually(lambda: list(portero.activity.list(device="moded", host="lucky-reef.example")))
    assert {one.verdict for one in found} == {"block", "allow"}
    portero.layer_modes.remove("office")
    portero.settings.put(Settings(gateway_networks=("198.51.100.0/24",)), version=None)
    identity = json.loads((folder / "device.json").read_text())
    identity["facts"] |= {"place": "on-site", "addresses": ["198.51.100.9"]}
    (folder / "device.json").write_text(json.dumps(identity))
    assert run_async(_check_in(folder)) is None
    told = rule(folder)
    assert (told["verdict"], "leaves filtering to the gateway" in told["layer"]["why"]) == ("allow", True)
    assert status(folder)["left to gateway"] == "198.51.100.0/24"
    portero.settings.put(Settings(), version=None)


class Outdated:
    """An agent that is told of something that is replaced before it has fetched it, so often."""

    def __init__(self, times: int) -> None:
        self.left = times

    async def check_in(self, woken: bool = False) -> bool:
        self.left -= 1
        if self.left >= 0:
            raise NotTaken("there is no such category index (any more)")
        return True


def test_joining_asks_again_where_what_it_was_told_of_is_replaced_meanwhile():
    run_async(take_first(Outdated(1)))
    with pytest.raises(NotTaken):
        run_async(take_first(Outdated(9)))
