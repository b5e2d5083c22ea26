"""Services to measure: in this process, or in one of its own."""

from __future__ import annotations

import multiprocessing
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from multiprocessing.connection import Connection
from pathlib import Path

import httpx
import uvicorn
from starlette.types import Receive, Scope, Send

from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.service.app import create_app, with_devices
from portero.service.keepers import Keepers, open_keepers
from portero.service.running import prepare_process, server_config, set_up_logging
from serving import TOKEN, let_in


@contextmanager
def served_here(keepers: Keepers) -> Iterator[httpx.Client]:
    """HTTP to the API of a service in this process, as a keeper."""
    set_up_logging(quiet=True)
    let_in(keepers)
    server = uvicorn.Server(server_config(with_devices(create_app(keepers)), port=0))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.01)
    url = f"http://127.0.0.1:{server.servers[0].sockets[0].getsockname()[1]}/api/v1/"
    headers = {"Authorization": f"Bearer {TOKEN}", "Accept-Encoding": "identity"}
    with httpx.Client(base_url=url, headers=headers, timeout=60) as client:
        yield client
    server.should_exit = True
    thread.join(10)


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
    prepare_process()
    code = ""
    if folder is None:
        config = server_config(_bare, port=0, lifespan="off")
    else:
        keepers = open_keepers(Path(folder))
        let_in(keepers)
        code = keepers.enrolment.make_code(NewEnrolmentCode(uses=10_000), "bench").code or ""
        config = server_config(with_devices(create_app(keepers)), port=0)
    listening = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listening.bind(("127.0.0.1", 0))
    listening.listen(2048)
    told.send((listening.getsockname()[1], code))
    uvicorn.Server(config).run(sockets=[listening])


@contextmanager
def served_apart(folder: str | None) -> Iterator[tuple[int, int, str]]:
    """The id of the server's process, its port, and an enrolment code; without a folder it is a bare handler."""
    ours, theirs = multiprocessing.Pipe()
    process = multiprocessing.get_context("spawn").Process(target=_serve, args=(folder, theirs))
    process.start()
    port, code = ours.recv()
    try:
        yield process.pid or 0, port, code
    finally:
        process.kill()
        process.join()
