"""A device's request, as far as it is read, and what it is answered."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property, partial
from typing import Any, NamedTuple, NoReturn, TypeVar
from urllib.parse import parse_qsl

import msgspec
from anyio import to_thread
from pydantic import ValidationError
from starlette.types import Receive, Scope

from portero.core.nouns.faults import fault_of
from portero.service.keepers import Keepers
from portero.service.middleware import MAX_BODY
from portero.service.problems import Refusal, field_error
from portero.service.register import Registered
from portero.service.roster import Assessment
from portero.service.secrets import hash_secret
from portero.service.wire.noting import Noting
from portero.store.devices import Applied

MAX_QUERY = 16

Said = TypeVar("Said", bound=msgspec.Struct)
Told = TypeVar("Told")
Headers = list[tuple[bytes, bytes]]


class Gone(Exception):
    """The device has hung up before it said all."""


class DeviceAnswer(NamedTuple):
    """What a device is answered."""

    status: int
    body: bytes = b""
    headers: Headers = []
    media_type: bytes = b"application/json"
    is_news: bool = True
    """Whether it is more than that there is nothing new: such answers are only counted."""


def json_answer(content: Any, status: int = 200, headers: Headers | None = None) -> DeviceAnswer:
    """Content, as JSON."""
    return DeviceAnswer(status, msgspec.json.encode(content), headers or [])


class Call:
    """A request of a device."""

    __slots__ = ("__dict__", "_noting", "_receive", "keepers", "rest", "scope")

    def __init__(self, scope: Scope, receive: Receive, keepers: Keepers, noting: Noting, rest: str) -> None:
        self.scope, self.keepers, self.rest = scope, keepers, rest
        self._receive, self._noting = receive, noting

    def header(self, name: bytes) -> str:
        """A header, given in lower case; empty where there is none."""
        for known, value in self.scope["headers"]:
            if known == name:
                return str(value, "latin-1")
        return ""

    @cached_property
    def query(self) -> dict[str, str]:
        """What stands behind the question mark. Refusal where it is too much."""
        try:
            return dict(parse_qsl(str(self.scope["query_string"], "latin-1"), max_num_fields=MAX_QUERY))
        except ValueError as problem:
            raise Refusal("bad-request", f"The address asks for too much: {problem}.") from problem

    @property
    def address(self) -> str:
        """Where it comes from."""
        client = self.scope.get("client")
        return client[0] if client else ""

    async def body(self) -> bytes:
        """All of the body. Gone; Refusal where it is larger than it may be."""
        announced = self.header(b"content-length") or "0"
        too_large = Refusal("too-large", f"This request may carry up to {MAX_BODY // 1_000_000} MB.")
        if not announced.isdigit() or int(announced) > MAX_BODY:
            raise too_large
        pieces, size, more = [], 0, True
        while more:
            message = await self._receive()
            if message["type"] == "http.disconnect":
                raise Gone
            pieces.append(message.get("body", b""))
            size, more = size + len(pieces[-1]), message.get("more_body", False)
            if size > MAX_BODY:
                raise too_large
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    async def message(self, decoder: msgspec.json.Decoder[Said]) -> Said:
        """The body as a message. Gone, Refusal."""
        try:
            return decoder.decode(await self.body())
        except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as problem:
            name = decoder.type.__name__
            raise Refusal("bad-request", f"The body does not read as a {name} message: {problem}.") from problem

    async def device(self) -> Registered:
        """The device whose credential came along. Refusal where it is good for nothing (any more)."""
        scheme, _, credential = self.header(b"authorization").partition(" ")
        found = None
        if scheme.lower() == "bearer" and credential:
            hashed = hash_secret(credential.strip())
            found = self.keepers.register.known(hashed) or await self.looking(self.keepers.register.look_up, hashed)
        if found is None:
            detail = "This device credential is not good (any more); join again with an enrolment code."
            raise Refusal("not-signed-in", detail, headers={"WWW-Authenticate": "Bearer"})
        return found

    async def looking(self, call: Callable[..., Told], *arguments: Any) -> Told:
        """Run what reads the store in a thread."""
        return await to_thread.run_sync(partial(call, *arguments))

    async def in_turn(self, call: Callable[..., Told], *arguments: Any) -> Told:
        """Run what reads and writes the store in a thread, one such call after the other."""
        return await self._noting.in_turn(partial(call, *arguments))

    async def note_applied(self, applied: Applied) -> None:
        """Note that the device has applied something, likewise."""
        await self._noting.note_applied(applied)

    async def note(self, note: Callable[[Assessment], Told]) -> Told:
        """Note something, together with what others say; what came of it, once it is committed."""
        return await self._noting.note(note)


def refuse_invalid(error: ValidationError, prefix: tuple[str, ...] = ()) -> NoReturn:
    """Refuse what does not fit, with where. Refusal."""
    errors = [field_error((*prefix, *fault["loc"]), fault_of(fault)) for fault in error.errors()]
    raise Refusal("invalid", f"{errors[0]['pointer']}: {errors[0]['detail']}.", errors=errors[:50]) from error
