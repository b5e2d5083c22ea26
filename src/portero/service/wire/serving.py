"""Where a device's request goes, and how it is answered, counted and logged."""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable, Mapping
from typing import Any

import structlog
from starlette.datastructures import MutableHeaders
from starlette.responses import Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from portero.service.keepers import Keepers
from portero.service.metrics import Metrics
from portero.service.middleware import SECURITY_HEADERS, dress, new_request_id
from portero.service.problems import Refusal, failed, method_not_allowed, refusal_of
from portero.service.wire import activity, check_ins, content, errands, joining, people, probes
from portero.service.wire.calls import Call, DeviceAnswer, Gone
from portero.service.wire.noting import Noting

PREFIX = "/device/v1/"
Handler = Callable[[Call], Awaitable[DeviceAnswer | Response]]

_log = structlog.get_logger("portero.service")
_HEADERS = [(name.lower().encode(), value.encode()) for name, value in SECURITY_HEADERS.items()]

ROUTES: Mapping[str, Mapping[str, Handler]] = {
    "join": {"POST": joining.join},
    "check-in": {"POST": check_ins.check_in},
    "wait": {"GET": check_ins.wait},
    "bundle/": {"GET": content.bundle},
    "overlay/": {"GET": content.overlay},
    "part/": {"GET": content.part},
    "parts": {"POST": content.parts},
    "may-have": {"GET": content.may_have},
    "index/": {"GET": content.index},
    "index-file/": {"GET": content.index_file},
    "people": {"GET": people.user_groups},
    "errands": {"GET": errands.errands},
    "errands/": {"POST": errands.answer_errand},
    "probes": {"GET": probes.probes, "POST": probes.probes_seen},
    "activity": {"POST": activity.take_activity},
}
"""By method, for each path; one that ends in a slash takes one more name behind it."""


class DeviceWire:
    """Answers devices; whatever else is asked goes on to the application."""

    def __init__(self, app: ASGIApp, keepers: Keepers, metrics: Metrics) -> None:
        self._app, self._keepers, self._metrics = app, keepers, metrics
        self._noting = Noting(keepers.fleet, keepers.heard, keepers.now)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or not scope["path"].startswith(PREFIX):
            await self._app(scope, receive, send)
            return
        began = time.perf_counter()
        name, slash, rest = scope["path"][len(PREFIX) :].partition("/")
        name += slash
        by_method, method = ROUTES.get(name, {}), scope["method"]
        request_id, problem = "", None
        try:
            answer = await self._answer(by_method, Call(scope, receive, self._keepers, self._noting, rest))
        except Gone:
            return
        except Exception as raised:
            request_id, problem = new_request_id(), refusal_of(raised)
            if problem is None:
                _log.exception("failed", method=method, path=scope["path"], request_id=request_id)
            answer = problem.response() if problem is not None else failed(request_id)
        is_quiet = isinstance(answer, DeviceAnswer) and not answer.is_news
        request_id = request_id or ("" if is_quiet else new_request_id())
        status = await _send(answer, scope, receive, send, request_id)
        seconds = time.perf_counter() - began
        route = PREFIX + (name + "{digest}" if slash else name) if by_method else "none"
        self._metrics.note_request(route, method, status, seconds)
        if not is_quiet:
            level = _log.warning if status >= 500 else _log.info
            told: dict[str, Any] = {"method": method, "path": scope["path"], "status": status}
            level("request", **told, ms=round(seconds * 1000, 1), request_id=request_id)

    async def _answer(self, by_method: Mapping[str, Handler], call: Call) -> DeviceAnswer | Response:
        if not by_method or "/" in call.rest:
            raise Refusal("not-found", f"There is nothing at {call.scope['path'][:200]}.")
        method = call.scope["method"]
        handler = by_method.get("GET" if method == "HEAD" else method)
        if handler is None:
            return method_not_allowed(method, {"Allow": ", ".join(by_method)})
        return await handler(call)


async def _send(answer: DeviceAnswer | Response, scope: Scope, receive: Receive, send: Send, request_id: str) -> int:
    """Send the answer with the headers that every answer has; returns its status."""
    if not isinstance(answer, DeviceAnswer):

        async def dressed(message: Message) -> None:
            if message["type"] == "http.response.start":
                dress(MutableHeaders(scope=message), scope, request_id)
            await send(message)

        await answer(scope, receive, dressed)
        return answer.status_code
    headers = [*answer.headers]
    if answer.status not in (204, 304):
        headers += [(b"content-length", b"%d" % len(answer.body)), (b"content-type", answer.media_type), *_HEADERS]
    if request_id:
        headers.append((b"x-request-id", request_id.encode()))
    if scope["scheme"] == "https":
        headers.append((b"strict-transport-security", b"max-age=31536000"))
    await send({"type": "http.response.start", "status": answer.status, "headers": headers})
    await send({"type": "http.response.body", "body": answer.body})
    return answer.status
