"""The demo's web: answers for every made-up host, over http and https, so that an allowed visit shows a page."""

from __future__ import annotations

import argparse
import ssl
import sys
from functools import lru_cache
from html import escape
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread

from portero.core.matching.categories import look_up
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.endpoint.own_certificate import own_certificate
from portero.formats.category_index import SHIPPED_INDEX, read_index

_SEARCH_PAGE = "find.example"
_RESULTS = (
    "<ul>"
    + "".join(
        f'<li><a href="http://{host}/">{host}</a></li>'
        for host in (
            "tickets.brackwater.example",
            "reeltide.example",
            "fleet-weather.example",
            "slipway-auctions.example",
        )
    )
    + "</ul>"
)
"""What the made-up search page finds, whatever is looked for: on a kiosk only the first opens."""
_EXTRAS = {
    _SEARCH_PAGE: _RESULTS,
    "tickets.brackwater.example": (
        '<link rel="stylesheet" href="//fonts.example/plain.css"><script src="//fonts.example/plain.js"></script>'
        '<iframe src="//pay-by-card.example/form" title="Pay by card"></iframe>'
    ),
}
"""What some hosts have beside the plain page: a shop has what it needs from others."""
_PAGE = """<!doctype html><html lang="en"><meta charset="utf-8"><title>{host}</title>
<style>body{{font:16px/1.5 system-ui,sans-serif;margin:12vh auto;max-width:34rem;padding:0 1.5rem;color:#1d2430}}
h1{{font-size:1.4rem;overflow-wrap:anywhere}} p{{color:#4a5361}}</style>
<h1>{host}</h1><p>A made-up site: {categories}.</p><p>You asked for <code>{path}</code>, and nothing stopped you.</p>"""


@lru_cache(maxsize=1)
def _index() -> object:
    return read_index(SHIPPED_INDEX.read_bytes())


class _Site(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    timeout = 30

    def do_GET(self) -> None:
        host = (self.headers.get("Host") or "nowhere.example").partition(":")[0].lower()
        entry = look_up(host, _index(), {})  # type: ignore[arg-type]
        names = ", ".join(TAXONOMY.categories[key].name for key in entry.categories)
        page = _PAGE.format(host=escape(host), categories=escape(names), path=escape(self.path[:200]))
        body = (page + _EXTRAS.get(host, "")).encode()
        self.send_response(200)
        self.send_header("Content-Type", "text/html; charset=utf-8")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    do_HEAD = do_GET  # noqa: N815 (the name is the base class's)

    def do_POST(self) -> None:
        self.rfile.read(min(int(self.headers.get("Content-Length") or 0), 1_000_000))
        self.do_GET()

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing: a demo's web is no news."""


class Server(ThreadingHTTPServer):
    """A server of the demo."""

    daemon_threads = True

    def handle_error(self, request: object, client_address: object) -> None:
        """A browser that hangs up is no news either."""


def _certificate(folder: Path) -> Path:
    """A certificate for the made-up hosts, signed by nobody: browsers rightly warn of it."""
    path = folder / "web.pem"
    path.write_bytes(own_certificate("made-up web", ["*.example"]))
    return path


def start_web(folder: Path, http_port: int, https_port: int) -> tuple[int, int]:
    """Start both servers on loopback in threads; returns their ports (0 takes a free one)."""
    plain = Server(("127.0.0.1", http_port), _Site)
    secure = Server(("127.0.0.1", https_port), _Site)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(_certificate(folder))
    secure.socket = context.wrap_socket(secure.socket, server_side=True, do_handshake_on_connect=False)
    for server in (plain, secure):
        Thread(target=server.serve_forever, daemon=True).start()
    return plain.server_port, secure.server_port


def main() -> int:
    """Run the demo's web on its own: `python -m portero.demo.web --data DIR --ports HTTP,HTTPS`."""
    parser = argparse.ArgumentParser(description="Answers for every made-up host.")
    parser.add_argument("--data", type=Path, required=True)
    parser.add_argument("--ports", default="0,0")
    options = parser.parse_args()
    ports = start_web(options.data, *(int(port) for port in options.ports.split(",")))
    print(f"{ports[0]},{ports[1]}", flush=True)
    sys.stdin.read()
    return 0


if __name__ == "__main__":
    sys.exit(main())
