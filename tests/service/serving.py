"""A service in this process, on loopback: for tests that look inside while it answers."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager

import httpx
import uvicorn

from conftest import eventually
from portero.service.app import create_app
from portero.service.keepers import Keepers
from portero.service.secrets import hash_secret
from portero.store import access


@contextmanager
def serving(keepers: Keepers) -> Iterator[httpx.Client]:
    """HTTP to a service with these keepers, as a keeper."""
    with keepers.store.writing() as connection:
        access.add_administrator(connection, "tests", "keeper", "no password")
        access.add_token(
            connection,
            id="tests",
            secret_hash=hash_secret("pt_tests"),
            name="tests",
            label="tests",
            role="keeper",
            now=0,
            expires=None,
        )
    server = uvicorn.Server(uvicorn.Config(create_app(keepers), port=0, log_config=None, access_log=False))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    eventually(lambda: server.started)
    port = server.servers[0].sockets[0].getsockname()[1]
    headers = {"Authorization": "Bearer pt_tests"}
    with httpx.Client(base_url=f"http://127.0.0.1:{port}", headers=headers, timeout=30) as client:
        yield client
    keepers.live.close()
    server.should_exit = True
    thread.join(15)
