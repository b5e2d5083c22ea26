"""Run the service: options checked, logs set up, uvicorn started."""

from __future__ import annotations

import asyncio
import gc
import logging
import resource
import shlex
import socket
import sys
from contextlib import suppress
from dataclasses import dataclass
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import structlog
import uvicorn
from starlette.types import ASGIApp

from portero.service.app import create_app, with_devices
from portero.service.connections import GuardedConnection
from portero.service.keepers import Keepers, open_keepers
from portero.service.metrics import Metrics
from portero.store.database import StoreProblem


class CannotServe(RuntimeError):
    """The service cannot start; the message says why and what to do."""


@dataclass(frozen=True)
class Options:
    """Where the service keeps its data and where it listens."""

    data: Path
    host: str = "127.0.0.1"
    port: int = 8642
    tls_certificate: Path | None = None
    tls_key: Path | None = None
    behind_proxy: bool = False
    quiet: bool = False
    metrics_port: int | None = None


def set_up_logging(quiet: bool = False) -> None:
    """Structured logs to standard error, one JSON line an event."""
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            structlog.processors.JSONRenderer(),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(logging.WARNING if quiet else logging.INFO),
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )


def _is_loopback(host: str) -> bool:
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def serve(options: Options) -> None:
    """Run the service until it is told to stop. CannotServe where it cannot start."""
    if not _is_loopback(options.host) and not options.behind_proxy and not options.tls_certificate:
        raise CannotServe(
            f"listening on {options.host} needs --tls-certificate and --tls-key, or --behind-proxy where a proxy"
            " in front gives TLS"
        )
    prepare_process()
    listening = _listen(options.host, options.port)
    set_up_logging(options.quiet)
    try:
        keepers = open_keepers(options.data)
    except StoreProblem as problem:
        raise CannotServe(str(problem)) from problem
    except OSError as problem:
        raise CannotServe(f"{problem.filename or options.data} cannot be used: {problem.strerror}") from problem
    app = create_app(keepers)
    # a great fleet stays in memory: looking through all of it for what may go holds up every answer for half a second
    gc.collect()
    gc.freeze()
    if options.metrics_port is not None:
        _serve_metrics(app.state.metrics, options.metrics_port)
    scheme = "https" if options.tls_certificate else "http"
    url = f"{scheme}://{options.host}:{listening.getsockname()[1]}"
    if (code := keepers.administrators.setup_code) is not None:
        print(_first_steps(url, code, options.data), file=sys.stderr)
    print(f"Portero listens on {url}/", file=sys.stderr, flush=True)
    config = server_config(
        with_devices(app),
        proxy_headers=options.behind_proxy,
        ssl_certfile=options.tls_certificate,
        ssl_keyfile=options.tls_key,
    )
    asyncio.run(_Server(config, keepers).serve(sockets=[listening]))


def _first_steps(url: str, code: str, data: Path) -> str:
    return (
        f"No administrator yet; nobody gets in. Make the first one at {url}/console/setup with the setup code\n\n"
        f"    {code}\n\n"
        "which is good until somebody did or the service ends; or at this machine with\n\n"
        f"    portero administrator add NAME --role keeper --data {shlex.quote(str(data))}\n"
    )


def server_config(app: ASGIApp, **options: Any) -> uvicorn.Config:
    """How the application is served, wherever: every connection within bounds."""
    options.setdefault("proxy_headers", False)
    return uvicorn.Config(
        app,
        http=GuardedConnection,
        ws="none",
        log_config=None,
        access_log=False,
        server_header=False,
        timeout_graceful_shutdown=3,
        timeout_keep_alive=75,
        **options,
    )


def _serve_metrics(metrics: Metrics, port: int) -> None:
    try:
        metrics.serve("127.0.0.1", port)
    except OSError as problem:
        raise CannotServe(f"port {port} for metrics cannot be had ({problem.strerror})") from problem


SWITCH_SECONDS = 0.0005
"""So long a thread that waits for its turn is kept waiting at the most. What notes what devices say gives its turn away
with each statement, and would wait ten times as long each time while many devices ask.
"""


def prepare_process() -> None:
    """Set this process up to serve many: as many open files as may be had, as each connection is one; and quick turns
    between its threads.
    """
    sys.setswitchinterval(SWITCH_SECONDS)
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft < hard:
        with suppress(ValueError, OSError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))


class _Server(uvicorn.Server):
    """Lets go of held requests when it is told to stop, so that stopping takes no longer than needed."""

    def __init__(self, config: uvicorn.Config, keepers: Keepers) -> None:
        super().__init__(config)
        self._keepers = keepers

    def handle_exit(self, sig: int, frame: object) -> None:
        self._keepers.live.close()
        super().handle_exit(sig, frame)  # type: ignore[arg-type]


def _listen(host: str, port: int) -> socket.socket:
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    # said to be TCP, as asyncio sends what is small at once only then: an answer's body would wait 40 ms for its head
    listening = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind((host, port))
    except OSError as problem:
        raise CannotServe(
            f"port {port} on {host} cannot be had ({problem.strerror}); choose another with --port"
        ) from problem
    listening.listen(2048)
    return listening
