"""Connections that are slow on purpose: how long a head, a body and an answer may take, and who has to go when many
come at once.

Nobody is shut out for the address they come from, as a whole ship may be behind one: of those that have not yet sent
a whole request, the one that has waited longest makes room.
"""

from __future__ import annotations

import asyncio
from collections import OrderedDict
from collections.abc import Callable
from http import HTTPStatus
from typing import Any

import structlog
from uvicorn.config import Config
from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol
from uvicorn.server import ServerState

from portero.service.middleware import SECURITY_HEADERS, new_request_id
from portero.service.problems import MEDIA_TYPE, ProblemResponse

HEAD_SECONDS = 10.0
"""How long a request may take to say what it wants."""
MAX_HEAD = 64 * 1024
BODY_IDLE_SECONDS = 20.0
"""How long a body may rest."""
BODY_SECONDS, BODY_RATE = 60.0, 500.0
"""A body has so long, and more where at least so many bytes a second of it come."""
LINGER_SECONDS = 1.0
UNREAD_SECONDS = 60.0
"""How long an answer may lie unread."""
MOST_BEGINNING, MOST_BEGINNING_AT_ONE = 4_000, 100
"""So many connections may be without a whole request: of all, and of one address. A proxy in front is no address."""
GRACE_SECONDS = 0.5
"""A whole ship may come at once: who has not waited for so long may have said all that there is to read."""

_log = structlog.get_logger("portero.connections")


class Beginning:
    """The connections that have not sent a whole request head, the one that has waited longest first."""

    def __init__(self) -> None:
        self._all: OrderedDict[GuardedConnection, str] = OrderedDict()
        self._at: dict[str, OrderedDict[GuardedConnection, float]] = {}

    def add(self, connection: GuardedConnection, address: str) -> None:
        """One more; where these are too many, those that have waited longest have to go."""
        self.remove(connection)
        self._all[connection] = address
        mine, loop = self._at.setdefault(address, OrderedDict()), connection.loop
        mine[connection] = loop.time()
        if address and len(mine) == MOST_BEGINNING_AT_ONE + 1:
            loop.call_later(GRACE_SECONDS, self._make_room, address, loop)
        if len(self._all) > MOST_BEGINNING:
            next(iter(self._all)).give_up()

    def _make_room(self, address: str, loop: asyncio.AbstractEventLoop) -> None:
        """Let those of an address go that are too many, and have had their time."""
        mine = self._at.get(address, OrderedDict())
        while len(mine) > MOST_BEGINNING_AT_ONE:
            first, since = next(iter(mine.items()))
            if loop.time() - since < GRACE_SECONDS:
                loop.call_later(GRACE_SECONDS, self._make_room, address, loop)
                return
            first.give_up()
            self.remove(first)

    def remove(self, connection: GuardedConnection) -> None:
        """It has said what it wants, or is gone."""
        address = self._all.pop(connection, None)
        if address is not None:
            mine = self._at[address]
            del mine[connection]
            if not mine:
                del self._at[address]


_beginning = Beginning()


class GuardedConnection(HttpToolsProtocol):
    """One connection of a client, within bounds of time and size."""

    def __init__(
        self,
        config: Config,
        server_state: ServerState,
        app_state: dict[str, Any],
        _loop: asyncio.AbstractEventLoop | None = None,
    ) -> None:
        super().__init__(config, server_state, app_state, _loop)
        self._in_head, self._head_bytes, self._given_up = True, 0, False
        self._body_since, self._body_bytes = 0.0, 0
        self._patience: asyncio.TimerHandle | None = None
        self._unread: asyncio.TimerHandle | None = None

    # --- as data comes ---

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._await_head()

    def connection_lost(self, exc: Exception | None) -> None:
        _beginning.remove(self)
        self._rest()
        self._read()
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        if self._given_up:
            return
        self._head_bytes += len(data)
        super().data_received(data)
        if self._in_head and self._head_bytes > MAX_HEAD:
            self._give_up(HTTPStatus.REQUEST_HEADER_FIELDS_TOO_LARGE, "Its head is longer than any that is read.")

    def on_message_begin(self) -> None:
        super().on_message_begin()
        self._in_head = True
        if self._patience is None:
            self._await_head()

    def on_headers_complete(self) -> None:
        super().on_headers_complete()
        _beginning.remove(self)
        self._in_head = False
        self._body_since, self._body_bytes = self.loop.time(), 0
        self._await_body()

    def on_body(self, body: bytes) -> None:
        super().on_body(body)
        self._body_bytes += len(body)
        self._await_body()

    def on_message_complete(self) -> None:
        super().on_message_complete()
        self._head_bytes = 0
        self._rest()

    def pause_writing(self) -> None:
        super().pause_writing()
        self._unread = self.loop.call_later(UNREAD_SECONDS, self.transport.abort)

    def resume_writing(self) -> None:
        super().resume_writing()
        self._read()

    # --- patience ---

    def _await_head(self) -> None:
        behind_proxy = self.config.proxy_headers
        _beginning.add(self, self.client[0] if self.client and not behind_proxy else "")
        self._wait(HEAD_SECONDS, self.give_up)

    def _await_body(self) -> None:
        self._wait(BODY_IDLE_SECONDS, self._body_rests)
        spent = self.loop.time() - self._body_since - BODY_SECONDS
        if spent > 0 and self._body_bytes < spent * BODY_RATE:
            self.give_up()

    def _body_rests(self) -> None:
        if self.flow.read_paused:
            # it is this side that lets it wait
            self._await_body()
        else:
            self.give_up()

    def _wait(self, seconds: float, then: Callable[[], None]) -> None:
        self._rest()
        self._patience = self.loop.call_later(seconds, then)

    def _rest(self) -> None:
        if self._patience is not None:
            self._patience.cancel()
            self._patience = None

    def _read(self) -> None:
        if self._unread is not None:
            self._unread.cancel()
            self._unread = None

    # --- giving up ---

    def give_up(self) -> None:
        """It took too long, or others need the room."""
        if self._in_head and self._answering:
            # another request on the same connection is still being answered
            self._await_head()
        else:
            self._give_up(HTTPStatus.REQUEST_TIMEOUT, "The request took too long to come; send it again in one go.")

    def send_400_response(self, msg: str) -> None:
        self._give_up(HTTPStatus.BAD_REQUEST, "This is not HTTP as it should be.")

    @property
    def _answering(self) -> bool:
        return self.cycle is not None and not self.cycle.response_complete

    def _give_up(self, status: HTTPStatus, detail: str) -> None:
        _beginning.remove(self)
        self._rest()
        begun = self._answering and self.cycle.response_started
        if self._answering:
            self.cycle.disconnected = True
            self.cycle.message_event.set()
        self._given_up = True
        if not begun and not self.transport.is_closing():
            self.transport.write(_answer(status, detail, self.client[0] if self.client else ""))
        if begun or not self.transport.can_write_eof():
            # over TLS what was written is sent before the end, and no half of a connection can be closed
            self.transport.close()
            return
        # what comes still is let fall: closing with something unread would take the answer back (RFC 9112, 9.6)
        self.transport.write_eof()
        self._wait(LINGER_SECONDS, self.transport.close)


def _answer(status: HTTPStatus, detail: str, address: str) -> bytes:
    """A problem as it goes over the wire, with what every answer has."""
    request_id = new_request_id()
    kind = status.phrase.lower().replace(" ", "-")
    body = ProblemResponse(
        {"type": f"urn:portero:problem:{kind}", "title": status.phrase, "status": int(status), "detail": detail}
    ).body
    headers = {
        "Content-Type": MEDIA_TYPE,
        "Content-Length": str(len(body)),
        "Connection": "close",
        "X-Request-Id": request_id,
        **SECURITY_HEADERS,
    }
    _log.info("given_up", status=int(status), address=address, request_id=request_id)
    lines = [f"HTTP/1.1 {int(status)} {status.phrase}", *(f"{name}: {value}" for name, value in headers.items())]
    return "\r\n".join([*lines, "", ""]).encode() + bytes(body)
