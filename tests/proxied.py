"""A real nginx in front of a service, with the configuration that ships."""

from __future__ import annotations

import os
import re
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

SHIPPED = Path(__file__).parent.parent / "deploy" / "nginx.conf"
_MAIN = """
daemon off;
{user}
pid {folder}/nginx.pid;
error_log {folder}/error.log;
worker_processes 1;
events {{ worker_connections 1024; }}
http {{
    log_format told '$request_method $uri $status $bytes_sent $upstream_cache_status';
    access_log {folder}/access.log told;
    client_body_temp_path {folder}/body;
    proxy_temp_path {folder}/proxy;
    fastcgi_temp_path {folder}/fastcgi;
    uwsgi_temp_path {folder}/uwsgi;
    scgi_temp_path {folder}/scgi;
    include {folder}/portero.conf;
}}
"""


class Request(NamedTuple):
    """A request as nginx noted it."""

    method: str
    path: str
    status: int
    bytes: int
    cache: str
    """HIT, STALE and such: out of the cache; MISS and `-`: from the service."""

    @property
    def is_cached(self) -> bool:
        return self.cache in ("HIT", "STALE", "UPDATING", "REVALIDATED")


class Proxy:
    """An nginx that runs."""

    def __init__(self, folder: Path, port: int) -> None:
        self.folder, self.url = folder, f"http://127.0.0.1:{port}"
        self._read = 0

    def requests(self) -> list[Request]:
        """What was asked since this was looked at last."""
        # nginx writes a line when it has sent the answer
        time.sleep(0.2)
        lines = (self.folder / "access.log").read_text().splitlines()
        new, self._read = lines[self._read :], len(lines)
        found = [line.split(" ") for line in new]
        return [Request(method, path, int(status), int(size), cache) for method, path, status, size, cache in found]


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


@contextmanager
def proxied(folder: Path, service_port: int, remembered: str = "5m") -> Iterator[Proxy]:
    """nginx before the service on a port of loopback; `remembered` is for how long it is what the service said."""
    port = _free_port()
    (folder / "cache").mkdir(parents=True)
    text = SHIPPED.read_text()
    for shipped, here in (
        (r"server 127\.0\.0\.1:8642;", f"server 127.0.0.1:{service_port};"),
        (r"/var/cache/nginx/", f"{folder}/cache/"),
        (r"listen 443 ssl;", f"listen 127.0.0.1:{port};"),
        (r" *ssl_certificate.*\n", ""),
        (r"proxy_cache_valid 204 5m;", f"proxy_cache_valid 204 {remembered};"),
    ):
        text, changed = re.subn(shipped, here, text)
        assert changed, shipped
    (folder / "portero.conf").write_text(text)
    user = "user root;" if os.getuid() == 0 else ""
    (folder / "nginx.conf").write_text(_MAIN.format(folder=folder, user=user))
    program = shutil.which("nginx") or "/usr/sbin/nginx"
    process = subprocess.Popen([program, "-p", str(folder), "-c", "nginx.conf", "-e", "error.log"])
    try:
        deadline = time.monotonic() + 20
        while not _listens(port):
            assert process.poll() is None, (folder / "error.log").read_text()
            assert time.monotonic() < deadline, "nginx does not start"
            time.sleep(0.05)
        yield Proxy(folder, port)
    finally:
        process.terminate()
        process.wait(10)


def _listens(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0
