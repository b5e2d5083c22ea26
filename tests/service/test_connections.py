"""Connections that are slow on purpose, floods of them, bodies without end, streams that outlive their reader."""

from __future__ import annotations

import asyncio
import json
import socket
import threading
import time
from contextlib import ExitStack

import httpx
import pytest
from fastapi import FastAPI
from uvicorn.server import ServerState

from conftest import Wire, eventually, run_async, signed
from portero.service import connections, live
from portero.service.middleware import MAX_BODY, SECURITY_HEADERS
from portero.service.running import _listen, server_config

HEAD = b"GET /healthz HTTP/1.1\r\nHost: x\r\n"
POST = b"POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\n"


def connect(service) -> socket.socket:
    return socket.create_connection(("127.0.0.1", service.port), timeout=20)


def all_of(sock: socket.socket) -> bytes:
    """All that comes, until the service ends the connection."""
    told = b""
    while data := sock.recv(65_536):
        told += data
    return told


def one_answer(sock: socket.socket) -> bytes:
    """The next answer to /healthz, which is an object of JSON, with its end."""
    told = b""
    while not told.endswith(b"}"):
        told += sock.recv(65_536)
    return told


def problem_of(told: bytes) -> tuple[int, dict[str, str], dict[str, object]]:
    """Status, headers and problem of an answer as it came."""
    head, _, body = told.partition(b"\r\n\r\n")
    line, *lines = head.decode().split("\r\n")
    headers = dict(line.split(": ", 1) for line in lines)
    return int(line.split()[1]), {name.lower(): value for name, value in headers.items()}, json.loads(body)


def drip(sock: socket.socket, data: bytes) -> None:
    """Send the same again and again, until the service takes no more of it."""
    with pytest.raises(OSError, match=r"reset|pipe"):
        _drip(sock, data)


def _drip(sock: socket.socket, data: bytes) -> None:
    for _ in range(200):
        sock.sendall(data)
        time.sleep(0.05)


def assert_dressed(headers: dict[str, str]) -> None:
    assert headers["content-type"] == "application/problem+json"
    assert len(headers["x-request-id"]) == 16
    for name, value in SECURITY_HEADERS.items():
        assert headers[name.lower()] == value


@pytest.mark.parametrize("sent", [b"", b"GET / HT", HEAD, HEAD + b"X-Slow: "], ids=["nothing", "line", "half", "name"])
def test_half_a_request_is_given_up(service, monkeypatch, sent):
    monkeypatch.setattr(connections, "HEAD_SECONDS", 0.3)
    with connect(service) as sock:
        sock.sendall(sent)
        began = time.monotonic()
        status, headers, problem = problem_of(all_of(sock))
        assert 0.2 < time.monotonic() - began < 5
    assert (status, problem["type"]) == (408, "urn:portero:problem:request-timeout")
    assert_dressed(headers)


def test_half_a_request_over_tls_is_told_too():
    """As the protocol itself would be called: a connection of which no half can be closed."""
    written: list[bytes] = []

    class Tls:
        closed = False

        def write(self, data: bytes) -> None:
            written.append(data)

        def close(self) -> None:
            self.closed = True

        def can_write_eof(self) -> bool:
            return False

        def is_closing(self) -> bool:
            return self.closed

        def get_extra_info(self, _name: str) -> None:
            return None

    async def given_up() -> bool:
        config = server_config(FastAPI())
        config.load()
        made = connections.GuardedConnection(config, ServerState(), {})
        made.connection_made(Tls())
        made.data_received(HEAD)
        made.give_up()
        return made.transport.closed

    assert run_async(given_up())
    assert problem_of(b"".join(written))[0] == 408


def test_a_head_that_comes_letter_by_letter_is_given_up_in_time(service, monkeypatch):
    monkeypatch.setattr(connections, "HEAD_SECONDS", 0.5)
    began = time.monotonic()
    with connect(service) as sock:
        drip(sock, b"X")
    assert time.monotonic() - began < 8


def test_a_second_request_on_a_connection_has_its_own_time(service, monkeypatch):
    monkeypatch.setattr(connections, "HEAD_SECONDS", 0.4)
    with connect(service) as sock:
        sock.sendall(HEAD + b"\r\n")
        assert one_answer(sock).startswith(b"HTTP/1.1 200")
        time.sleep(0.7)  # resting between two requests is allowed
        sock.sendall(HEAD + b"\r\n")
        assert one_answer(sock).startswith(b"HTTP/1.1 200")
        sock.sendall(HEAD)
        assert problem_of(all_of(sock))[0] == 408


def test_a_head_without_end_is_refused(service):
    with connect(service) as sock:
        sock.sendall(HEAD + b"X-Long: " + b"x" * 400_000)
        status, headers, _ = problem_of(all_of(sock))
    assert status == 431
    assert_dressed(headers)


def test_a_body_that_rests_is_given_up(service, monkeypatch):
    monkeypatch.setattr(connections, "BODY_IDLE_SECONDS", 0.3)
    with connect(service) as sock:
        sock.sendall(POST + b"Content-Length: 100\r\n\r\n{")
        status, headers, _ = problem_of(all_of(sock))
    assert status == 408
    assert_dressed(headers)


def test_a_body_that_drips_is_given_up(service, monkeypatch):
    monkeypatch.setattr(connections, "BODY_SECONDS", 0.3)
    with connect(service) as sock:
        sock.sendall(POST + b"Content-Length: 100000\r\n\r\n")
        began = time.monotonic()
        drip(sock, b" ")
        assert time.monotonic() - began < 8


def test_an_answer_that_nobody_reads_is_dropped(service, portero, monkeypatch):
    monkeypatch.setattr(connections, "UNREAD_SECONDS", 0.3)
    ask = f"GET /api/v1/openapi.json HTTP/1.1\r\nHost: x\r\nAuthorization: {signed(portero)['Authorization']}\r\n\r\n"
    with connect(service) as sock:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 2048)
        drip(sock, ask.encode())


def test_what_is_no_http_is_told_as_a_problem(service):
    with connect(service) as sock:
        sock.sendall(b"nonsense\r\n\r\n")
        status, headers, _ = problem_of(all_of(sock))
    assert status == 400
    assert_dressed(headers)


def test_a_flood_of_half_requests_leaves_everybody_answered(service, monkeypatch):
    """From the same address as the flood, as a ship's people behind one address would."""
    with ExitStack() as stack:
        flood = [stack.enter_context(connect(service)) for _ in range(700)]
        for sock in flood:
            sock.sendall(HEAD)
        began = time.monotonic()
        for _ in range(20):
            assert httpx.get(service.url + "/healthz", timeout=5).status_code == 200
        assert time.monotonic() - began < 5
        # all but the newest of them are gone already
        assert problem_of(all_of(flood[0]))[0] == 408
        eventually(lambda: len(connections._beginning._all) <= connections.MOST_BEGINNING_AT_ONE)


@pytest.mark.parametrize("chunked", [False, True], ids=["announced", "streamed"])
@pytest.mark.parametrize("path", ["/api/v1/check", "/device/v1/check-in", "/api/v1/days-off"])
def test_a_body_over_the_bound_is_refused_as_a_problem(service, portero, path, chunked):
    device = Wire(service, portero, f"big-{chunked}-{path.count('/')}-{len(path)}")
    headers = dict(device.http.headers) if path.startswith("/device") else signed(portero)
    body = (b" " * 100_000 for _ in range(60)) if chunked else b" " * (MAX_BODY + 1)
    headers = {"Authorization": headers.get("authorization") or headers["Authorization"]}
    answer = httpx.post(service.url + path, content=body, headers=headers, timeout=20)
    assert answer.status_code == 413, answer.text
    assert answer.json()["detail"] == "This request may carry up to 4 MB."
    assert_dressed(dict(answer.headers))


def test_one_device_holds_few_requests(service, portero):
    device = Wire(service, portero, "clinging")
    offered = device.sync()[1]
    held = {"have": offered["bundle"]}
    ended: list[int] = []

    def hold() -> None:
        ended.append(device.http.get("wait", params=held, timeout=40).status_code)

    threads = [threading.Thread(target=hold, daemon=True) for _ in range(live.MOST_OF_DEVICE + 3)]
    for thread in threads:
        thread.start()
    eventually(lambda: len(ended) == 3)
    time.sleep(0.3)
    assert (len(ended), service.keepers.live.held) == (3, live.MOST_OF_DEVICE)


def test_a_stream_ends_with_its_token(service, portero):
    asked = {"label": "for a while", "role": "reader", "days": 1}
    made = httpx.post(service.url + "/api/v1/tokens", headers=signed(portero), json=asked).json()
    headers = {"Authorization": f"Bearer {made['secret']}"}
    with httpx.stream("GET", service.url + "/api/v1/stream", headers=headers, timeout=20) as stream:
        lines = stream.iter_lines()
        assert next(lines).startswith("event: following")
        httpx.delete(f"{service.url}/api/v1/tokens/{made['id']}", headers=signed(portero))
        began = time.monotonic()
        for _ in lines:
            pass
        assert time.monotonic() - began < 5


def test_a_stream_ends_with_its_session(service):
    with httpx.Client(base_url=service.url, timeout=20) as browser:
        signed_in = browser.post("/api/v1/session", json={"name": "keeper", "password": service.password}).json()
        cookies = dict(browser.cookies)
        with httpx.stream("GET", service.url + "/api/v1/stream", cookies=cookies, timeout=20) as stream:
            lines = stream.iter_lines()
            next(lines)
            browser.delete("/api/v1/session", headers={"X-CSRF-Token": signed_in["csrf_token"]})
            began = time.monotonic()
            for _ in lines:
                pass
            assert time.monotonic() - began < 5


def test_metrics_are_told_to_who_is_signed_in(service, portero):
    assert httpx.get(service.url + "/metrics").status_code == 401
    list(portero.devices.list(limit=1))
    answer = httpx.get(service.url + "/metrics", headers=signed(portero))
    assert answer.headers["content-type"].startswith("text/plain; version=")
    assert 'portero_requests_total{method="GET",route="/api/v1/devices",status="200"}' in answer.text
    assert 'portero_devices{rollout="current"}' in answer.text
    assert "portero_revision " in answer.text


def test_small_answers_are_sent_at_once():
    """A body that waits for its head to be acknowledged comes 40 ms late."""
    listening = _listen("127.0.0.1", 0)

    async def accepted() -> int:
        told: asyncio.Future[int] = asyncio.get_running_loop().create_future()

        async def serve(_reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            sock = writer.get_extra_info("socket")
            told.set_result(sock.getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY))
            writer.close()

        async with await asyncio.start_server(serve, sock=listening):
            _, writer = await asyncio.open_connection(*listening.getsockname())
            writer.close()
            return await told

    assert run_async(accepted()) == 1


def test_answers_are_packed_for_whoever_takes_that_and_streams_are_not(service, portero):
    with httpx.Client(base_url=service.url, headers=signed(portero)) as http:
        packed = http.get("/api/v1/taxonomy")
        assert packed.headers["Content-Encoding"] == "gzip"
        plain = http.get("/api/v1/taxonomy", headers={"Accept-Encoding": "identity"})
        assert "Content-Encoding" not in plain.headers
        assert plain.json() == packed.json()
        assert int(packed.headers["Content-Length"]) < int(plain.headers["Content-Length"]) / 3
        assert "Accept-Encoding" in packed.headers["Vary"]
        with http.stream("GET", "/api/v1/stream") as stream:
            assert "Content-Encoding" not in stream.headers
            assert next(stream.iter_raw())
