"""The audit trail: every call that does something, or that is refused for want of a right, leaves an entry.

Routes have nothing to do for it. Those that only ask although they are no GET say so with `asks`; those whose reading
is an act, as exports are, with `acts`.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Coroutine
from typing import Any, TypeVar

import structlog
from fastapi import APIRouter, Request, Response
from fastapi.routing import APIRoute
from starlette.concurrency import run_in_threadpool

from portero.core.nouns.audit import Outcome
from portero.service.problems import Refusal
from portero.store import audit
from portero.store.access import Principal
from portero.store.database import Store

Endpoint = TypeVar("Endpoint", bound=Callable[..., Any])
PREVIEW_HEADER = "Portero-Preview"
REVISION_HEADER = "Portero-Revision"
"""The revision that a change has made."""
REPEATED_SECONDS = 60.0
"""The same refusal again within so long leaves no entry: a program that is refused tries for ever."""
_MOST_REMEMBERED = 10_000
_PREFIX = "/api/v1"

_log = structlog.get_logger("portero.audit")


class Auditor:
    """Adds to the audit trail."""

    def __init__(self, store: Store, clock: Callable[[], float]) -> None:
        self._store, self._now = store, clock
        self._lock = threading.Lock()
        self._refused: dict[tuple[str, str, str], float] = {}

    def record(self, act: str, **told: Any) -> None:
        """Add an entry with these fields of `AuditEntry`."""
        now = self._now()
        with self._store.writing() as connection:
            number, digest = audit.append(connection, act, now, **told)
        # kept elsewhere, as logs are, it shows whether the trail was cut off at its end
        _log.info("audit", number=number, digest=digest)

    def is_repeated(self, who: Principal, act: str, detail: str) -> bool:
        """Whether the same was refused to the same a moment ago."""
        now = self._now()
        with self._lock:
            if len(self._refused) > _MOST_REMEMBERED:
                self._refused = {key: at for key, at in self._refused.items() if now - at < REPEATED_SECONDS}
            last = self._refused.get((who.id, act, detail))
            if last is not None and 0 <= now - last < REPEATED_SECONDS:
                return True
            self._refused[who.id, act, detail] = now
            return False


def asks(endpoint: Endpoint) -> Endpoint:
    """Marks a call that changes nothing, whatever its method."""
    endpoint.__dict__["is_act"] = False
    return endpoint


def acts(endpoint: Endpoint) -> Endpoint:
    """Marks a call whose reading is an act."""
    endpoint.__dict__["is_act"] = True
    return endpoint


def add_detail(request: Request, detail: str) -> None:
    """What an entry says of this request, beside what it was about."""
    request.state.detail = detail


def note_revision(request: Request, revision: int) -> None:
    """The revision that this request made: told in its entry, and to whoever asked."""
    request.state.revision = revision
    add_detail(request, f"revision {revision}")


def make_act(request: Request, detail: str) -> None:
    """Make an act of this request, to a call that is none otherwise."""
    request.state.is_act, request.state.detail = True, detail


class AuditedRoute(APIRoute):
    """A call of the API whose use leaves an entry."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        handle = super().get_route_handler()
        usual = getattr(self.endpoint, "is_act", not set(self.methods or ()) & {"GET", "HEAD"})

        async def audited(request: Request) -> Response:
            try:
                response = await handle(request)
            except Refusal as problem:
                if problem.kind == "not-allowed":
                    await self._record(request, "refused", problem.detail)
                raise
            if (revision := getattr(request.state, "revision", None)) is not None:
                response.headers[REVISION_HEADER] = str(revision)
            if getattr(request.state, "is_act", usual) and PREVIEW_HEADER not in response.headers:
                await self._record(request, "done", getattr(request.state, "detail", None))
            return response

        return audited

    async def _record(self, request: Request, outcome: Outcome, detail: str | None) -> None:
        """What was done is done, and is answered when it is in the trail too."""
        who: Principal | None = getattr(request.state, "principal", None)
        auditor: Auditor = request.app.state.keepers.auditor
        act = self.operation_id or self.name
        if who is None or (outcome == "refused" and auditor.is_repeated(who, act, detail or "")):
            return
        await run_in_threadpool(
            auditor.record,
            act,
            by=who.name,
            role=who.role,
            means=who.means,
            means_id=who.id,
            address=request.client.host if request.client else None,
            about=request.url.path.removeprefix(_PREFIX),
            outcome=outcome,
            detail=detail,
            reason=request.query_params.get("reason"),
        )


def audited_router(tag: str | None = None) -> APIRouter:
    """A router whose calls are audited."""
    return APIRouter(route_class=AuditedRoute, tags=[tag] if tag else None)
