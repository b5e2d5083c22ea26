"""A small web on loopback: it answers everything with an empty page, and hosts of `pages.test` with others."""

from __future__ import annotations

import asyncio
import contextlib
import ssl
import tempfile
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

PLAIN, SECURE = (80, 8080), (443, 8443)
OPEN, STOPPED = "http://open.pages.test", "http://stopped.pages.test"
_HANDSHAKE = b"\x16"
"""What TLS begins with."""
_PAGE = "<!doctype html><title>{path}</title><body>{body}"
_BODIES = {
    "/link": f"<a id=go href='{STOPPED}/from/link'>go</a>",
    "/tab": f"<a id=go target=_blank href='{STOPPED}/from/tab'>go</a>",
    "/form": f"<form method=post action='{STOPPED}/from/form'><button id=go>go</button></form>",
    "/script": f"<button id=go onclick=\"location.href='{STOPPED}/from/script'\">go</button>",
    "/refresh": f"<meta http-equiv=refresh content='0;url={STOPPED}/from/refresh'>",
    "/frame": f"<iframe src='{STOPPED}/from/frame'></iframe>",
    "/image": f"<img src='{STOPPED}/from/image'>",
    "/fetch": f"<script>fetch('{STOPPED}/from/fetch', {{mode: 'no-cors'}}).catch(() => 0)</script>",
    "/style": f"<link rel=stylesheet href='{STOPPED}/from/style'>",
    "/scripted": f"<script src='{STOPPED}/from/scripted'></script>",
}


class Web:
    """The small web. It knows what was asked for."""

    def __init__(self) -> None:
        self.asked: list[str] = []
        self.without_page = False
        """Answers say that there is no page: a browser need not draw one then."""

    async def answer(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Answer one request, and close."""
        with contextlib.suppress(OSError, asyncio.IncompleteReadError, asyncio.LimitOverrunError):
            first = await reader.readexactly(1)
            if first == _HANDSHAKE:
                # https on a port for http: no request will come
                writer.close()
                return
            head = (first + await reader.readuntil(b"\r\n\r\n")).decode("latin-1")
            path = head.split(" ", 2)[1]
            hosts = [line for line in head.splitlines() if line.lower().startswith("host:")]
            host = hosts[0].partition(":")[2].strip() if hosts else ""
            self.asked.append(f"http://{host}{path}")
            writer.write(self._response(host, path).encode())
            await writer.drain()
        writer.close()

    def _response(self, host: str, path: str) -> str:
        ended = "Connection: close\r\n\r\n"
        if self.without_page and not host.endswith("pages.test"):
            return f"HTTP/1.1 204 No Content\r\n{ended}"
        if not host.endswith("pages.test"):
            return f"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: 0\r\n{ended}"
        if path.startswith("/hop/"):
            kind, _, left = path.rpartition("/")
            to = f"{OPEN}{kind}/{int(left) - 1}" if int(left) else f"{STOPPED}/from{kind}"
            return f"HTTP/1.1 302 Found\r\nLocation: {to}\r\nContent-Length: 0\r\n{ended}"
        body = _PAGE.format(path=path, body=_BODIES.get(path, "here"))
        kind = f"Content-Type: text/html\r\nContent-Length: {len(body)}\r\n"
        return f"HTTP/1.1 200 OK\r\n{kind}{ended}{body}"


@contextlib.contextmanager
def served() -> Iterator[Web]:
    """The web, served on the usual ports of loopback until the block ends."""
    web, loop = Web(), asyncio.new_event_loop()
    loop.run_until_complete(_start(web))
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    try:
        yield web
    finally:
        loop.call_soon_threadsafe(loop.stop)
        thread.join(10)


async def _start(web: Web) -> None:
    for port in PLAIN:
        await asyncio.start_server(web.answer, "127.0.0.1", port)
    for port in SECURE:
        await asyncio.start_server(web.answer, "127.0.0.1", port, ssl=_certificate())


def _certificate() -> ssl.SSLContext:
    key = ec.generate_private_key(ec.SECP256R1())
    name, now = x509.Name([]), datetime.now(UTC)
    made = x509.CertificateBuilder(name, name, key.public_key(), x509.random_serial_number())
    made = made.not_valid_before(now - timedelta(days=1)).not_valid_after(now + timedelta(days=1))
    made = made.add_extension(x509.SubjectAlternativeName([x509.DNSName("*.test")]), critical=True)
    told = made.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM)
    told += key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    with tempfile.NamedTemporaryFile() as file:
        Path(file.name).write_bytes(told)
        context.load_cert_chain(file.name)
    return context
