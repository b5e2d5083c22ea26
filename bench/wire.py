"""What the service does for a device that has nothing new, beside a bare handler on the same server."""

from __future__ import annotations

import multiprocessing
import socket
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from multiprocessing.connection import Connection
from pathlib import Path

import httpx
import msgspec
import uvicorn
from starlette.types import Receive, Scope, Send

from bench.measuring import Figure, Measurement, Row, in_turns
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.service.app import create_app, with_devices
from portero.service.keepers import open_keepers
from portero.service.running import server_config, set_up_logging

CONNECTIONS = 16


async def _bare(scope: Scope, receive: Receive, send: Send) -> None:
    """Reads the request, and answers that there is nothing; or holds it."""
    if scope["type"] != "http":
        return
    while (await receive()).get("more_body"):
        pass
    if scope["path"].endswith("/wait"):
        await receive()
        return
    await send({"type": "http.response.start", "status": 204, "headers": [(b"portero-check-in-seconds", b"60")]})
    await send({"type": "http.response.body", "body": b""})


def _serve(folder: str | None, told: Connection) -> None:
    """Serve in a process of its own, and tell the port and a code with which devices join."""
    set_up_logging(quiet=True)
    code = ""
    if folder is None:
        config = server_config(_bare, port=0, lifespan="off")
    else:
        keepers = open_keepers(Path(folder))
        code = keepers.enrolment.make_code(NewEnrolmentCode(uses=10_000), "bench").code or ""
        config = server_config(with_devices(create_app(keepers)), port=0)
    listening = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listening.bind(("127.0.0.1", 0))
    told.send((listening.getsockname()[1], code))
    uvicorn.Server(config).run(sockets=[listening])


@contextmanager
def _served(folder: str | None) -> Iterator[tuple[int, int, str]]:
    """The server's process, its port, and an enrolment code."""
    ours, theirs = multiprocessing.Pipe()
    process = multiprocessing.get_context("spawn").Process(target=_serve, args=(folder, theirs))
    process.start()
    port, code = ours.recv()
    try:
        yield process.pid or 0, port, code
    finally:
        process.kill()
        process.join()


class _Device:
    """A machine that holds what it should, on a connection of its own."""

    def __init__(self, port: int, request: bytes) -> None:
        self._request = request
        self._socket = socket.create_connection(("127.0.0.1", port))

    def send(self) -> None:
        self._socket.sendall(self._request)

    def take(self) -> None:
        """Take one answer, which has no body."""
        answer = b""
        while b"\r\n\r\n" not in answer:
            answer += self._socket.recv(4096)
        assert answer.startswith(b"HTTP/1.1 204"), answer[:200]

    def close(self) -> None:
        self._socket.close()


def _request(method: str, path: str, credential: str, body: bytes = b"") -> bytes:
    head = f"{method} /device/v1/{path} HTTP/1.1\r\nHost: bench.example\r\nAuthorization: Bearer {credential}\r\n"
    return (head + f"Content-Type: application/json\r\nContent-Length: {len(body)}\r\n\r\n").encode() + body


def _joined(port: int, code: str, number: int) -> tuple[str, dict[str, object]]:
    """A machine's credential, and what it holds once it has taken what it should."""
    facts = {"hostname": f"machine-{number}", "unit": "north/area"}
    with httpx.Client(base_url=f"http://127.0.0.1:{port}/device/v1") as http:
        credential = http.post("/join", json={"code": code, "facts": facts}).json()["credential"]
        http.headers["Authorization"] = f"Bearer {credential}"
        reads = {"manifests": [1, 2], "bundles": [1, 2, 3]}
        offered = http.post("/check-in", json=reads).json()
        holds = {**reads, "have": offered["bundle"], "revision": offered["revision"], "epoch": 1}
        assert http.post("/check-in", json=holds).status_code == 204
    return credential, holds


def _rate(devices: list[_Device], rounds: int) -> Measurement:
    """Seconds a check-in, of all devices at once."""

    def once() -> list[float]:
        began = time.perf_counter()
        for _ in range(rounds):
            for device in devices:
                device.send()
            for device in devices:
                device.take()
        return [(time.perf_counter() - began) / rounds / len(devices)]

    return once


def _resident(process: int) -> int:
    pages = Path(f"/proc/{process}/statm").read_text().split()[1]
    return int(pages) * 4096


def wire_rows(rounds: int, check_ins: int, waits: int) -> list[Row | Figure]:
    """“Nothing new” told to a device, and a request held for one."""
    with tempfile.TemporaryDirectory() as folder, _served(None) as bare, _served(folder) as real:
        credential, holds = _joined(real[1], real[2], 0)
        asking = _request("POST", "check-in", credential, msgspec.json.encode(holds))
        sides = [[_Device(port, asking) for _ in range(CONNECTIONS)] for _, port, _ in (bare, real)]
        floor, ours = in_turns(rounds, *(_rate(side, check_ins // CONNECTIONS) for side in sides))
        path = f"wait?have={holds['have']}&hold=55"
        credentials = [_joined(real[1], real[2], number)[0] for number in range(1, waits // 4 + 1)]
        held = []
        for (process, port, _), known in ((bare, [credential]), (real, credentials)):
            requests = [_request("GET", path, one) for one in known]
            held.append(_held_of(process, port, requests, waits))
    return [
        Row("check-in with nothing new (floor: a bare ASGI handler)", ours, floor.median, goal=2.5, aim=2.0),
        Figure("a held request of a device ÷ a bare one held", held[1] / held[0], "", at_most=2.0),
        Figure("a held request of a device", held[1] / 1000, "kB", at_most=60),
    ]


def _held_of(process: int, port: int, requests: list[bytes], number: int) -> float:
    """Bytes that the server takes for a request that it holds, over so many."""
    before, devices = _resident(process), []
    for place in range(number):
        devices.append(_Device(port, requests[place % len(requests)]))
        devices[-1].send()
    time.sleep(3.0)
    after = _resident(process)
    for device in devices:
        device.close()
    time.sleep(1.0)
    return (after - before) / number
