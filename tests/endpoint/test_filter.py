"""What is fetched is what was judged: every form of a request that a proxy can be sent, over a real connection."""

from __future__ import annotations

import asyncio
import re
import socket
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest

from conftest import assignment, group, run_endpoint, under
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.ruleset import Ruleset
from portero.endpoint.agent import Agent
from portero.endpoint.filter import Filter, Origin
from portero.endpoint.folder import Folder
from portero.endpoint.running import new_http

BLOCKED, ALLOWED = "lucky-reef.example", "fleet-weather.example"


class Upstream:
    """A server that stands in for every host; it notes who it was taken for, and for what."""

    def __init__(self) -> None:
        self.asked: list[tuple[str, str, str, str]] = []
        self.content_type = ""
        upstream = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def answer(self) -> None:
                body = self.rfile.read(int(self.headers.get("Content-Length") or 0))
                told = (self.command, ",".join(self.headers.get_all("Host", [])), self.path, body.decode())
                upstream.asked.append(told)
                self.send_response(200)
                self.send_header("Content-Length", "2")
                if upstream.content_type:
                    self.send_header("Content-Type", upstream.content_type)
                self.send_header("X-Had", ",".join(sorted(name.lower() for name in self.headers)))
                self.end_headers()
                if self.command != "HEAD":
                    self.wfile.write(b"ok")

            def __getattr__(self, name: str) -> object:
                # every method is answered alike
                if name.startswith("do_"):
                    return self.answer
                raise AttributeError(name)

            def log_message(self, format: str, *args: object) -> None:
                pass

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._server.daemon_threads = True
        self.port = self._server.server_port
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()


class Proxy:
    """A filter in this process, on a machine whose policy blocks one of two hosts."""

    def __init__(self, folder, origin: Origin | None) -> None:
        self._started = threading.Event()
        self._loop = asyncio.new_event_loop()
        threading.Thread(target=self._run, args=(folder, origin), daemon=True).start()
        assert self._started.wait(20)

    def _run(self, folder, origin) -> None:
        async def main() -> None:
            self._end = asyncio.Event()
            async with new_http() as http, await Filter(Agent(Folder(folder), http), origin=origin).start(0) as server:
                self.port = server.sockets[0].getsockname()[1]
                self._started.set()
                await self._end.wait()

        self._loop.run_until_complete(main())

    def say(self, *parts: bytes) -> bytes:
        """All that comes back to what is sent, until the proxy ends the connection or says no more."""
        with socket.create_connection(("127.0.0.1", self.port), timeout=10) as raw:
            for part in parts:
                raw.sendall(part)
            raw.shutdown(socket.SHUT_WR)
            told = b""
            while data := raw.recv(65_536):
                told += data
        return told

    def stop(self) -> None:
        self._loop.call_soon_threadsafe(self._end.set)


@pytest.fixture(scope="module")
def machine(service, portero, tmp_path_factory):
    portero.groups.create(group("office", all=[under("brackwater/office")]))
    rules = [
        {"category": "gambling", "action": "block"},
        {"media_type": "video/*", "action": "block"},
        {"media_type": "audio/mpeg", "action": "warn"},
    ]
    portero.rulesets.create(Ruleset.model_validate({"key": "rules", "kind": "category", "rules": rules}))
    portero.assignments.create(assignment("rules", "office"))
    code = portero.enrolment.create_code(NewEnrolmentCode()).code
    folder = tmp_path_factory.mktemp("machine")
    join = ("join", "--service", service.url, "--code", code, "--data", folder)
    run_endpoint(*join, "--hostname", "filtering", "--unit", "brackwater/office")
    return folder


@pytest.fixture(scope="module")
def upstream():
    made = Upstream()
    yield made
    made.close()


@pytest.fixture(scope="module")
def proxy(machine, upstream):
    made = Proxy(machine, Origin(upstream.port, upstream.port))
    yield made
    made.stop()


@pytest.fixture(autouse=True)
def nothing_asked_yet(upstream):
    upstream.asked.clear()
    upstream.content_type = ""


def request(target: str | bytes, *headers: str, method: str = "GET", version: str = "1.1", body: bytes = b"") -> bytes:
    """A request as it is sent."""
    lines = [*headers] if any(header.lower().startswith("host:") for header in headers) else ["Host: x", *headers]
    line = target.encode() if isinstance(target, str) else target
    head = "".join(f"{header}\r\n" for header in lines).encode()
    return method.encode() + b" " + line + f" HTTP/{version}\r\n".encode() + head + b"\r\n" + body


def status(answer: bytes) -> int:
    return int(answer.split(b" ", 2)[1])


JUDGED = [
    ("plain", f"http://{ALLOWED}/a?b=c", "/a?b=c"),
    ("backslash before user info", rf"http://{ALLOWED}\@{BLOCKED}/", f"/@{BLOCKED}/"),
    ("user info", f"http://{BLOCKED}@{ALLOWED}/", "/"),
    ("user info with a password", f"http://{BLOCKED}:80@{ALLOWED}/", "/"),
    ("two ats", f"http://a@{BLOCKED}@{ALLOWED}/", "/"),
    ("fragment", f"http://{ALLOWED}/#@{BLOCKED}/", "/"),
    ("query without a path", f"http://{ALLOWED}?@{BLOCKED}/", f"/?@{BLOCKED}/"),
    ("capitals and a dot", f"HTTP://{ALLOWED.upper()}./x", "/x"),
    ("an encoded letter", "http://fleet%2dweather.example/", "/"),
    ("one slash", f"http:/{ALLOWED}/x", "/x"),
    ("backslashes", rf"http:\\{ALLOWED}\x", "/x"),
    ("dots in the path", f"http://{ALLOWED}/a/../../b", "/b"),
    ("its own port", f"http://{ALLOWED}:80/", "/"),
    ("a port of many noughts", f"http://{ALLOWED}:00080/", "/"),
    ("odd signs", f"http://{ALLOWED}/[a]|^%zz", "/[a]|%5E%zz"),
]


@pytest.mark.parametrize(("target", "path"), [row[1:] for row in JUDGED], ids=[row[0] for row in JUDGED])
def test_what_is_fetched_is_the_url_that_was_judged(proxy, upstream, target, path):
    answer = proxy.say(request(target, f"Host: {BLOCKED}"))
    assert status(answer) == 200, answer
    ((_, host, asked, _),) = upstream.asked
    assert (host.rstrip("."), asked) == (ALLOWED, path)


STOPPED = [
    ("plain", f"http://{BLOCKED}/"),
    ("backslash", rf"http://{BLOCKED}\@{ALLOWED}/"),
    ("user info", f"http://{ALLOWED}@{BLOCKED}/"),
    ("user info and port", f"http://{ALLOWED}:80@{BLOCKED}:8080/"),
    ("an encoded letter", "http://lucky%2dreef.example/"),
    ("full width", "http://lucky-reef%EF%BC%8Eexample/"),
    ("capitals and a dot", f"http://{BLOCKED.upper()}./"),
    ("below it", f"http://any.{BLOCKED}/"),
    ("one slash", f"http:/{BLOCKED}/"),
    ("three slashes", f"http:///{BLOCKED}/"),
    ("backslashes", rf"http:\\{BLOCKED}\x"),
    ("another port", f"http://{BLOCKED}:8080/"),
    ("over https", f"https://{BLOCKED}/"),
]


@pytest.mark.parametrize("target", [row[1] for row in STOPPED], ids=[row[0] for row in STOPPED])
def test_every_way_to_write_a_blocked_host_is_stopped(proxy, upstream, target):
    answer = proxy.say(request(target, f"Host: {ALLOWED}"))
    assert status(answer) == 403, answer[:200]
    assert upstream.asked == []


REFUSED = [
    ("origin form", f"/{BLOCKED}/"),
    ("origin form with a host", "/"),
    ("no scheme", f"{ALLOWED}/"),
    ("no scheme, two slashes", f"//{ALLOWED}/"),
    ("asterisk", "*"),
    ("another scheme", f"ftp://{ALLOWED}/"),
    ("a script", "javascript:alert(1)"),
    ("no host", "http://"),
    ("a port that is none", f"http://{ALLOWED}:99999/"),
    ("a port of letters", f"http://{ALLOWED}:8x/"),
    ("a forbidden letter", "http://a^b.example/"),
    ("an encoded nought", f"http://{ALLOWED}%00.{BLOCKED}/"),
    ("an encoded slash", f"http://{ALLOWED}%2f.{BLOCKED}/"),
]


@pytest.mark.parametrize("target", [row[1] for row in REFUSED], ids=[row[0] for row in REFUSED])
@pytest.mark.parametrize("version", ["1.1", "1.0"])
def test_what_names_no_host_is_refused(proxy, upstream, target, version):
    answer = proxy.say(request(target, f"Host: {ALLOWED}", version=version))
    assert status(answer) == 400, answer[:200]
    assert upstream.asked == []


@pytest.mark.parametrize(
    "raw",
    [
        f"GET http://{ALLOWED}/\t@{BLOCKED}/ HTTP/1.1\r\nHost: x\r\n\r\n".encode(),
        f"GET http://{ALLOWED}/\n@{BLOCKED}/ HTTP/1.1\r\nHost: x\r\n\r\n".encode(),
        f"GET http://{ALLOWED}/ HTTP/1.1\r\nHost: x\r\nHost: {BLOCKED}\r\n\r\n".encode(),
        f"GET http://{ALLOWED}/ HTTP/1.1\r\nHost : {BLOCKED}\r\n\r\n".encode(),
        f"GET http://{ALLOWED}/ HTTP/1.1\r\n\r\n".encode(),
        f"POST http://{ALLOWED}/ HTTP/1.1\r\nHost: x\r\nContent-Length: 1\r\nContent-Length: 9\r\n\r\na".encode(),
        f"POST http://{ALLOWED}/ HTTP/1.1\r\nHost: x\r\nContent-Length: -1\r\n\r\na".encode(),
        f"POST http://{ALLOWED}/ HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: gzip\r\n\r\na".encode(),
    ],
    ids=["tab", "newline", "two hosts", "space", "no host", "two lengths", "length below nought", "coding"],
)
def test_what_is_no_http_is_refused_before_anything_is_asked(proxy, upstream, raw):
    answer = proxy.say(raw)
    assert answer.startswith((b"HTTP/1.1 400", b"HTTP/1.1 501")), answer[:200]
    assert upstream.asked == []


def test_a_get_with_a_body_is_answered(proxy, upstream):
    target = f"http://{ALLOWED}/q"
    told = proxy.say(request(target, "Content-Length: 4", body=b"body"))
    assert told.endswith(b"ok")
    assert upstream.asked == [("GET", ALLOWED, "/q", "body")]


def test_a_body_that_is_waited_for_is_asked_for(proxy, upstream):
    told = proxy.say(request(f"http://{ALLOWED}/", "Content-Length: 3", "Expect: 100-continue", method="PUT"), b"abc")
    assert told.startswith(b"HTTP/1.1 100")
    assert told.endswith(b"ok")
    assert upstream.asked == [("PUT", ALLOWED, "/", "abc")]


def test_requests_one_behind_the_other_are_judged_one_by_one(proxy, upstream):
    hosts = (ALLOWED, BLOCKED, ALLOWED)
    told = proxy.say(b"".join(request(f"http://{host}/{number}") for number, host in enumerate(hosts)))
    assert re.findall(rb"HTTP/1.1 (\d+)", told) == [b"200", b"403", b"200"]
    assert [asked[1:3] for asked in upstream.asked] == [(ALLOWED, "/0"), (ALLOWED, "/2")]


def test_what_follows_in_a_body_is_no_request(proxy, upstream):
    inner = request(f"http://{BLOCKED}/")
    told = proxy.say(request(f"http://{BLOCKED}/", f"Content-Length: {len(inner)}", method="POST", body=inner))
    assert told.count(b"HTTP/1.1") == 1
    assert status(told) == 403


def test_an_old_client_is_answered_and_let_go(proxy, upstream):
    told = proxy.say(request(f"http://{ALLOWED}/", version="1.0"))
    assert told.endswith(b"ok")
    assert b"connection: close" in told.lower()


def test_headers_of_the_connection_and_upgrades_stay_here(proxy, upstream):
    sent = ("Connection: Upgrade, X-Secret", "Upgrade: websocket", "X-Secret: 1", "Proxy-Authorization: Basic eA==")
    told = proxy.say(request(f"http://{ALLOWED}/", *sent, "X-Kept: 1"))
    had = next(line for line in told.split(b"\r\n") if line.lower().startswith(b"x-had:")).decode().split(",")
    assert "x-kept" in had
    assert not {"upgrade", "x-secret", "proxy-authorization", "accept-encoding"} & set(had)


TUNNELS = [
    (f"{BLOCKED}:443", 403),
    (f"{BLOCKED.upper()}.:443", 403),
    ("lucky%2dreef.example:443", 403),
    (f"{ALLOWED}@{BLOCKED}:443", 400),
    (f"{ALLOWED}:443@{BLOCKED}", 400),
    (rf"{ALLOWED}\{BLOCKED}:443", 400),
    (f"{ALLOWED}/{BLOCKED}:443", 400),
    (f"{ALLOWED}#{BLOCKED}:443", 400),
    (f"{ALLOWED}:", 400),
    (f"{ALLOWED}:0x50", 400),
    (f"{ALLOWED}:65536", 400),
    (ALLOWED, 400),
    (":443", 400),
    ("[::1:443", 400),
]
HERE = ["127.0.0.1", "127.9.9.9", "0x7f.1", "2130706433", "0", "0.0.0.0", "[::1]", "[::]", "[::ffff:127.0.0.1]"]
HERE += ["localhost", "LOCALHOST.", "any.localhost"]


@pytest.mark.parametrize(("target", "expected"), TUNNELS)
def test_tunnels_are_judged_by_the_host_that_they_lead_to(proxy, upstream, target, expected):
    told = proxy.say(request(target, f"Host: {ALLOWED}:443", method="CONNECT"))
    assert status(told) == expected, told[:200]


@pytest.mark.parametrize("host", HERE)
def test_nothing_leads_to_this_machine_itself(proxy, upstream, host):
    for sent in (
        request(f"{host}:{upstream.port}", method="CONNECT"),
        request(f"http://{host}:{upstream.port}/"),
        request(f"http://{host}:{proxy.port}/"),
    ):
        told = proxy.say(sent)
        assert status(told) == 403, told[:200]
        assert b"no address of this machine itself" in told
    assert upstream.asked == []


def test_a_name_that_resolves_to_this_machine_leads_nowhere(machine, upstream, monkeypatch):
    known = {"inward.example": "127.0.0.1", "inward6.example": "::ffff:127.0.0.1"}
    real = socket.getaddrinfo

    def lookup(host, port, *rest, **more):
        if host in known:
            return [(socket.AF_INET, socket.SOCK_STREAM, 6, "", (known[host], port))]
        return real(host, port, *rest, **more)

    monkeypatch.setattr(socket, "getaddrinfo", lookup)
    straight = Proxy(machine, None)
    try:
        for name in known:
            told = straight.say(request(f"http://{name}:{upstream.port}/"))
            assert status(told) == 403, told
            told = straight.say(request(f"{name}:{upstream.port}", method="CONNECT"))
            assert status(told) == 403, told
        assert upstream.asked == []
        # and where it is no such address, the connection goes to the one that was looked at
        monkeypatch.setattr("portero.endpoint.filter._is_here", lambda _host: False)
        told = straight.say(request(f"http://inward.example:{upstream.port}/x"))
        assert status(told) == 200, told
        assert upstream.asked == [("GET", f"inward.example:{upstream.port}", "/x", "")]
    finally:
        straight.stop()


# --- what comes back ---


@pytest.mark.parametrize(
    ("content_type", "expected"),
    [
        ("video/mp4", 403),
        ("VIDEO/MP4; codecs=x", 403),
        ("video/x-strange", 403),
        ("audio/mpeg", 403),
        ("audio/ogg", 200),
        ("text/html", 200),
        ("", 200),
        ("no type at all", 200),
    ],
)
@pytest.mark.parametrize("method", ["GET", "POST", "HEAD"])
def test_what_comes_back_is_stopped_by_its_type(proxy, upstream, machine, content_type, expected, method):
    upstream.content_type = content_type
    headers = ["Content-Length: 2"] if method == "POST" else []
    answer = proxy.say(request(f"http://{ALLOWED}/film", *headers, method=method, body=b"ab" if headers else b""))
    assert status(answer) == expected
    assert len(upstream.asked) == 1
    if method == "GET":
        assert (b"ok" in answer.partition(b"\r\n\r\n")[2]) == (expected == 200)


def test_who_is_warned_of_a_type_may_go_on(proxy, upstream):
    upstream.content_type = "audio/mpeg"
    first = proxy.say(request(f"http://{ALLOWED}/song"))
    reference = re.search(rb"reference=([0-9A-Z-]{9})", first).group(1).decode()
    assert status(proxy.say(request(f"http://notice.portero.test/go-on?reference={reference}"))) == 303
    assert status(proxy.say(request(f"http://{ALLOWED}/song"))) == 200
    upstream.content_type = "video/mp4"
    assert status(proxy.say(request(f"http://{ALLOWED}/film"))) == 403, "a block is no warning"
