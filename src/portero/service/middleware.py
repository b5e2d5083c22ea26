"""Around every request: a request id, security headers, one line in the log, and bounds for what it carries."""

from __future__ import annotations

import time
from uuid import uuid4

import structlog
from starlette.datastructures import MutableHeaders
from starlette.middleware.gzip import GZipMiddleware
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from portero.service.metrics import Metrics
from portero.service.problems import Refusal, failed
from portero.service.working import REQUEST_ID, TOLD_STATUS

MAX_BODY = 4_000_000
MAX_DOCUMENT = 40_000_000
MAX_FEED = 1_000_000_000
_DOCUMENTS = ("/api/v1/estate", "/api/v1/rulesets", "/api/v1/directory")
"""Where whole documents are sent."""
_FEEDS = "/api/v1/feeds/"
"""Where the files of feeds are sent, which are never held in memory whole."""

_PACKED = ("/api/", "/console")
_LEAST_PACKED, _LEVEL = 1_000, 5
"""From so many bytes on, and how hard: beyond it takes twice the time for two hundredths less."""

_log = structlog.get_logger("portero.service")

SECURITY_HEADERS = {
    "Content-Security-Policy": (
        "default-src 'none'; script-src 'self'; style-src 'self'; style-src-attr 'unsafe-inline'; img-src 'self' data:;"
        " font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
    ),
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Opener-Policy": "same-origin",
}


def new_request_id() -> str:
    """A fresh id, by which an answer and its line in the log belong together."""
    return uuid4().hex[:16]


def most_bytes(path: str) -> int:
    """How many bytes a request to a path may carry."""
    if path.startswith(_FEEDS) and path.endswith("/import"):
        return MAX_FEED
    return MAX_DOCUMENT if path.startswith(_DOCUMENTS) else MAX_BODY


class Compressed:
    """Packs what people and programs are answered (gzip, RFC 1952). What devices fetch is packed already."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app
        self._packing = GZipMiddleware(app, minimum_size=_LEAST_PACKED, compresslevel=_LEVEL)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        packed = scope["type"] == "http" and scope["path"].startswith(_PACKED)
        await (self._packing if packed else self._app)(scope, receive, send)


class Bounded:
    """Refuses a request body over the bound, whether it is announced or streamed."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        announced, most = dict(scope["headers"]).get(b"content-length", b"0"), most_bytes(scope["path"])
        too_large = Refusal("too-large", f"This request may carry up to {most // 1_000_000} MB.").response()
        if not announced.isdigit() or int(announced) > most:
            await too_large(scope, receive, send)
            return
        seen, refused = 0, False

        async def bounded() -> Message:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            # who reads it makes of it what it will: what is answered is decided here
            return {"type": "http.disconnect"} if seen > most else message

        async def answered(message: Message) -> None:
            nonlocal refused
            if seen <= most:
                await send(message)
            elif not refused:
                refused = True
                await too_large(scope, receive, send)

        try:
            await self._app(scope, bounded, answered)
        except Exception:
            if seen <= most:
                raise
        if seen > most and not refused:
            await too_large(scope, receive, send)


class Observed:
    """Gives every answer its request id and security headers, counts it, and logs one line for it."""

    def __init__(self, app: ASGIApp, metrics: Metrics) -> None:
        self._app, self._metrics = app, metrics

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        request_id, began, status = new_request_id(), time.perf_counter(), 0
        scope[REQUEST_ID] = request_id

        async def dressed(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                dress(MutableHeaders(scope=message), scope, request_id)
            await send(message)

        try:
            await self._app(scope, receive, dressed)
        except Exception:
            _log.exception("failed", method=scope["method"], path=scope["path"], request_id=request_id)
            if status:
                raise
            await failed(request_id)(scope, receive, dressed)
        seconds, status = time.perf_counter() - began, scope.get(TOLD_STATUS, status)
        self._metrics.note_request(_route_of(scope), scope["method"], status, seconds)
        level = _log.warning if status >= 500 else _log.info
        told = {"method": scope["method"], "path": scope["path"], "status": status}
        level("request", **told, ms=round(seconds * 1000, 1), request_id=request_id)


def dress(headers: MutableHeaders, scope: Scope, request_id: str) -> None:
    """Give an answer what every answer has."""
    headers["X-Request-Id"] = request_id
    for name, value in SECURITY_HEADERS.items():
        headers.setdefault(name, value)
    if scope["scheme"] == "https":
        headers["Strict-Transport-Security"] = "max-age=31536000"
    if scope["path"].startswith("/api/"):
        headers.setdefault("Cache-Control", "no-store")


def _route_of(scope: Scope) -> str:
    """The path with names in place of what was asked for: few, whatever is asked."""
    if "endpoint" not in scope:
        return "none"
    path: str = scope["path"]
    # from the right: what was asked for may read like a part of the path before it
    for name, value in reversed(scope.get("path_params", {}).items()):
        before, found, after = f"{path}/".rpartition(f"/{value}/")
        if found and value != "":
            path = f"{before}/{{{name}}}/{after}".removesuffix("/")
    return path
