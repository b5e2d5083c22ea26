"""A service in this process, on loopback: quick to start, and open to tests that look inside while it answers."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from secrets import token_urlsafe

import httpx
import uvicorn

from portero.client import Portero
from portero.core.insight.effects.world import World
from portero.core.insight.findings.finding import Found
from portero.core.nouns.access import Role
from portero.core.nouns.administrator import AdministratorChange
from portero.core.nouns.estate import Estate
from portero.service.app import create_app, with_devices
from portero.service.keepers import Keepers, open_keepers
from portero.service.passwords import hash_password
from portero.service.running import server_config, set_up_logging
from portero.service.secrets import hash_secret
from portero.store import access, administrators
from portero.store.data_folder import DataFolder
from portero.store.database import Store

TOKEN = "pt_tests"
PASSWORD = "the harbour is grey"


KEEPER = AdministratorChange(role="keeper", sees_names=True, probes_freely=True)


def make_keeper(store: Store) -> str:
    """On a store without administrators make the keeper of the tests; returns the password, or none."""
    password = token_urlsafe(16)
    with store.writing() as connection:
        if administrators.count(connection):
            return ""
        administrators.add(connection, "keeper", KEEPER, hash_password(password), time.time())
    return password


def make_keeper_in(folder: Path) -> str:
    """The same in the folder of a service that does not run."""
    held = DataFolder(folder)
    store = Store(held.database)
    try:
        return make_keeper(store)
    finally:
        store.close()
        held.close()


def let_in(keepers: Keepers) -> None:
    """From now on the token above is a keeper's."""
    with keepers.store.writing() as connection:
        administrators.add(connection, "tests", KEEPER, "no password", 0)
        access.add_token(
            connection,
            id="tests",
            secret_hash=hash_secret(TOKEN),
            name="tests",
            label="tests",
            role="keeper",
            now=0,
            expires=4e9,
        )


class Served:
    """A service that answers until it is stopped."""

    def __init__(self, keepers: Keepers, without_keeper: bool = False) -> None:
        self.keepers, self.data = keepers, keepers.folder.path
        self.password = "" if without_keeper else make_keeper(keepers.store)
        set_up_logging(quiet=True)
        self._server = uvicorn.Server(server_config(with_devices(create_app(keepers)), port=0))
        self._thread = threading.Thread(target=self._server.run, daemon=True)
        self._thread.start()
        deadline = time.monotonic() + 30
        while not self._server.started:
            assert time.monotonic() < deadline, "the service does not start"
            time.sleep(0.01)
        self.port = self._server.servers[0].sockets[0].getsockname()[1]
        self.url = f"http://127.0.0.1:{self.port}"

    @classmethod
    def of(cls, data: Path) -> Served:
        """The service whose data is in a folder."""
        return cls(open_keepers(data))

    def client(self, name: str = "keeper", password: str | None = None) -> Portero:
        """A client that is signed in."""
        portero = Portero(self.url)
        portero.access.sign_in(name, password or self.password, label="tests")
        return portero

    def add(self, name: str, role: Role, password: str = PASSWORD, sees_names: bool = True) -> None:
        """An administrator more, with a password of their own."""
        said = AdministratorChange(role=role, sees_names=sees_names)
        with self.keepers.store.writing() as connection:
            administrators.add(connection, name, said, hash_password(password), time.time())

    def stop(self) -> None:
        """Let go of all who wait, and end."""
        self.keepers.live.close()
        self._server.should_exit = True
        self._thread.join(15)


@contextmanager
def serving(keepers: Keepers) -> Iterator[httpx.Client]:
    """HTTP to a service with these keepers, as a keeper."""
    let_in(keepers)
    served = Served(keepers)
    with httpx.Client(base_url=served.url, headers={"Authorization": f"Bearer {TOKEN}"}, timeout=30) as client:
        yield client
    served.stop()


@contextmanager
def held_looks(served: Served) -> Iterator[threading.Event]:
    """Whoever looks for findings of a service says how far that is, and waits until the event is set."""
    foresight, go_on = served.keepers.foresight, threading.Event()
    find = foresight._find

    def held(estate: Estate, world: World) -> Found:
        world.note("Rules that meet", 3, 9)
        assert go_on.wait(30)
        return find(estate, world)

    foresight._found = None
    foresight._find = held  # type: ignore[method-assign]
    try:
        yield go_on
    finally:
        go_on.set()
        foresight._find = find  # type: ignore[method-assign]
