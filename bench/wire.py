"""What the service does for a device that has nothing new, beside a bare handler on the same server."""

from __future__ import annotations

import socket
import tempfile
import time
from pathlib import Path

import httpx
import msgspec

from bench.measuring import Figure, Measurement, Row, in_turns
from bench.serving import served_apart

CONNECTIONS = 16


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
    with tempfile.TemporaryDirectory() as folder, served_apart(None) as bare, served_apart(folder) as real:
        credential, holds = _joined(real[1], real[2], 0)
        asking = _request("POST", "check-in", credential, msgspec.json.encode(holds))
        sides = [[_Device(port, asking) for _ in range(CONNECTIONS)] for _, port, _ in (bare, real)]
        # two processes and their asker share the cores: many turns even that out
        floor, ours = in_turns(max(rounds, 9), *(_rate(side, check_ins // CONNECTIONS) for side in sides))
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
