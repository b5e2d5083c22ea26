"""How far a call is that takes its time, told while it is worked on to those that ask for it.

Who sends `Accept: text/event-stream` gets the ordinary answer where it comes soon. Where it does not, and what works on
it tells how far it is, server-sent events come: each `working` says what is looked at, how much of it is done, and of
how much; `answered`, the last, has the answer's status, headers and body.
"""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable
from contextvars import ContextVar

from sse_starlette import ServerSentEvent
from starlette.datastructures import Headers
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from portero.service.problems import failed

EVENT_STREAM = "text/event-stream"
EVERY_SECONDS = 0.3
TOLD_STATUS = "portero.status"
"""Where the request's scope has the status of an answer that is told in an event."""
REQUEST_ID = "portero.request_id"
"""Where it has the id by which the answer and its line in the log belong together."""
_LIVE = "/api/v1/stream"


class Work:
    """How far something is; written by the thread that works on it."""

    def __init__(self) -> None:
        self.state: tuple[str, int, int] | None = None

    def note(self, what: str, done: int, of: int) -> None:
        """So much is done of what is looked at."""
        self.state = what, done, of


_now: ContextVar[Work | None] = ContextVar("work", default=None)


def noting() -> Callable[[str, int, int], None]:
    """Notes how far the call is that is worked on: what is looked at, how much is done, of how much."""
    work = _now.get()
    return work.note if work is not None else lambda _what, _done, _of: None


class Working:
    """Tells how far a call is, where that is asked for."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if not _asks(scope):
            await self._app(scope, receive, send)
            return
        work, answer = Work(), _Answer(scope, send)
        _now.set(work)
        task = asyncio.ensure_future(self._app(scope, receive, answer.take))
        try:
            while not (await asyncio.wait({task}, timeout=EVERY_SECONDS))[0]:
                await answer.tell(work)
            await task
        except Exception:
            await answer.fail()
            raise
        finally:
            task.cancel()
        await answer.end()


def _asks(scope: Scope) -> bool:
    if scope["type"] != "http" or not scope["path"].startswith("/api/") or scope["path"] == _LIVE:
        return False
    return EVENT_STREAM in Headers(scope=scope).get("accept", "")


async def _nothing_more() -> Message:
    return {"type": "http.disconnect"}


class _Answer:
    """An answer on its way: passed on as it is, unless something was told before."""

    def __init__(self, scope: Scope, send: Send) -> None:
        self._scope, self._send = scope, send
        self._passed = self._told = False
        self._start: Message = {}
        self._body: list[bytes] = []
        self._last: tuple[str, int, int] | None = None

    async def take(self, message: Message) -> None:
        """A part of the answer."""
        if not self._told:
            self._passed = True
            await self._send(message)
        elif message["type"] == "http.response.start":
            self._start = message
        else:
            self._body.append(message.get("body", b""))

    async def tell(self, work: Work) -> None:
        """How far it is, where that is something else than before."""
        if self._passed or work.state is None or work.state == self._last:
            return
        begins, self._told, self._last = not self._told, True, work.state
        if begins:
            headers = [(b"content-type", f"{EVENT_STREAM}; charset=utf-8".encode()), (b"cache-control", b"no-store")]
            await self._send({"type": "http.response.start", "status": 200, "headers": headers})
        what, done, of = work.state
        await self._event("working", json.dumps({"what": what, "done": done, "of": of}), more=True)

    async def end(self) -> None:
        """The answer, where it was not passed on."""
        if not self._told:
            return
        headers, body = Headers(raw=self._start.get("headers", [])), b"".join(self._body)
        status = self._scope[TOLD_STATUS] = self._start.get("status", 500)
        named = json.dumps({name: headers[name] for name in headers if name != "content-length"})
        told = json.dumps(json.loads(body)) if body else "null"
        await self._event("answered", f'{{"status": {status}, "headers": {named}, "body": {told}}}', more=False)

    async def fail(self) -> None:
        """That nobody foresaw what happened, where an answer is waited for in an event."""
        if self._told:
            self._start, self._body = {}, []
            await failed(self._scope[REQUEST_ID])(self._scope, _nothing_more, self.take)
            await self.end()

    async def _event(self, name: str, data: str, more: bool) -> None:
        event = ServerSentEvent(data, event=name).encode()
        await self._send({"type": "http.response.body", "body": event, "more_body": more})
