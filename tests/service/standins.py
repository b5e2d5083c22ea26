"""Sources outside that behave badly, each a real server on loopback; and a keepers whose clock is the test's."""

from __future__ import annotations

import json
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from portero.core.nouns.estate import Estate
from portero.core.nouns.feed import Feed, FeedSummary
from portero.core.nouns.worklist import Worklist
from portero.demo.history import Clock
from portero.service.feeds.fetching import Bounds
from portero.service.keepers import Keepers, open_keepers
from portero.service.routes import feeds as routes
from portero.service.state import Snapshot
from portero.service.worklist import worklist

Answer = Callable[[BaseHTTPRequestHandler], None]
TAXII = "application/taxii+json;version=2.1"


NOON = datetime(2026, 11, 25, 12, tzinfo=UTC).timestamp()


class Source:
    """A server whose next answers are given by the test; it notes what it was asked."""

    def __init__(self) -> None:
        self.answer: Answer = text("")
        self.asked: list[tuple[str, dict[str, str]]] = []
        source = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                source.asked.append((self.path, dict(self.headers)))
                try:
                    source.answer(self)
                except (ConnectionError, TimeoutError):
                    self.close_connection = True

            def log_message(self, format: str, *args: object) -> None:
                pass

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._server.daemon_threads = True
        self.url = f"http://127.0.0.1:{self._server.server_port}"
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()


def body(data: bytes, media_type: str = "text/plain", status: int = 200, **headers: str) -> Answer:
    """An answer, whole."""

    def answer(to: BaseHTTPRequestHandler) -> None:
        to.send_response(status)
        for name, value in {"Content-Type": media_type, "Content-Length": str(len(data)), **headers}.items():
            to.send_header(name.replace("_", "-"), value)
        to.end_headers()
        to.wfile.write(data)

    return answer


def text(lines: str, **headers: str) -> Answer:
    return body(lines.encode(), **headers)


def envelope(*patterns: str, more: bool = False, next: str | None = None, **headers: str) -> Answer:
    """A page of a TAXII collection with an indicator for each pattern."""
    page: dict[str, Any] = {"objects": [stix(pattern) for pattern in patterns], "more": more}
    if next is not None:
        page["next"] = next
    return body(json.dumps(page).encode(), TAXII, **headers)


def stix(pattern: str, **more: object) -> dict[str, object]:
    number = f"{abs(hash(pattern)) % 10**12:012}"
    return {
        "type": "indicator",
        "spec_version": "2.1",
        "id": f"indicator--00000000-0000-4000-8000-{number}",
        "created": "2026-11-01T00:00:00.000Z",
        "modified": "2026-11-01T00:00:00.000Z",
        "name": "One",
        "pattern": pattern,
        "pattern_type": "stix",
        "valid_from": "2026-11-01T00:00:00Z",
        **more,
    }


def cut_off(announced: int, sent: bytes, media_type: str = "text/plain") -> Answer:
    """An answer that breaks off midway."""

    def answer(to: BaseHTTPRequestHandler) -> None:
        to.send_response(200)
        to.send_header("Content-Type", media_type)
        to.send_header("Content-Length", str(announced))
        to.end_headers()
        to.wfile.write(sent)
        to.wfile.flush()
        to.close_connection = True
        to.connection.shutdown(socket.SHUT_RDWR)

    return answer


def hang(seconds: threading.Event) -> Answer:
    """No answer, until the test lets go."""

    def answer(to: BaseHTTPRequestHandler) -> None:
        seconds.wait(30)
        to.close_connection = True

    return answer


def flood(media_type: str = "text/plain") -> Answer:
    """500 MB, as long as anybody listens."""

    def answer(to: BaseHTTPRequestHandler) -> None:
        to.send_response(200)
        to.send_header("Content-Type", media_type)
        to.end_headers()
        chunk = b"host.example\n" * 8_000
        for _ in range(500_000_000 // len(chunk)):
            to.wfile.write(chunk)
        to.close_connection = True

    return answer


def redirect(to_url: str) -> Answer:
    return body(b"", status=302, Location=to_url)


@contextmanager
def keepers_at(
    folder: Path, at: float, bounds: Bounds = Bounds(2.0, 20.0, 5_000_000)
) -> Iterator[tuple[Keepers, Clock]]:
    """Keepers whose clock stands, with narrow bounds for what is fetched."""
    clock = Clock(at)
    keepers = open_keepers(folder, clock, bounds)
    try:
        yield keepers, clock
    finally:
        keepers.close()


def configure(keepers: Keepers, *feeds: Feed, **parts: Any) -> None:
    """Make these the estate's feeds."""

    def edit(snapshot: Snapshot) -> Estate:
        return snapshot.estate.replacing(feeds=feeds, **parts)

    keepers.estate.change(edit, by="tests")


def poll(keepers: Keepers, key: str) -> FeedSummary:
    """Fetch a feed and wait for what comes of it."""
    feed = next(one for one in keepers.estate.snapshot.estate.feeds if one.key == key)
    polling = keepers.feeds.poll(feed, "tests")
    assert polling is not None
    polling.result(60)
    return summary(keepers, key)


def to_do(keepers: Keepers) -> Worklist:
    """What needs a decision now."""
    estate, found = keepers.estate.snapshot.estate, keepers.findings.all()
    return worklist(keepers.store, estate, found, keepers.fleet.epoch(), keepers.now())


def summary(keepers: Keepers, key: str) -> FeedSummary:
    return routes.shown(keepers, key)


def listing(source: Source, key: str = "list", **more: object) -> Feed:
    """A feed of categories that the source has."""
    given = {"kind": "categories", "format": "csv", "address": f"{source.url}/list.csv", "private_network": True}
    return Feed.model_validate({"key": key, **given, **more})


def categories(keepers: Keepers, host: str) -> tuple[str, ...]:
    """The categories that a host has by now."""
    return keepers.lookups.host(host).categories
