"""The application: routes, errors, bounds, logs, security headers and the console's files."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any
from uuid import uuid4

import structlog
from anyio import CapacityLimiter
from fastapi import APIRouter, Depends, FastAPI, Request
from fastapi.responses import FileResponse, JSONResponse, RedirectResponse, Response
from fastapi.routing import APIRoute
from starlette.concurrency import run_in_threadpool
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from portero import __version__
from portero.core.nouns.estate import NOUNS
from portero.service import joining, problems, wire
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes import (
    access,
    activity,
    application_sets,
    assignments,
    board,
    categories,
    checks,
    corrections,
    coverage,
    devices,
    directory,
    enrolment,
    epochs,
    estate,
    feeds,
    findings,
    groups,
    indicators,
    layer_modes,
    notices,
    nouns,
    overlaps,
    readiness,
    revisions,
    rollout,
    rulesets,
    schedules,
    services,
    settings,
    stream,
    warnings,
    worklist,
)
from portero.service.routes.common import refuse_stray_preview
from portero.service.routes.nouns import NounRoutes

MAX_BODY = 4_000_000
MAX_DOCUMENT = 40_000_000
MAX_FEED = 1_000_000_000
_DOCUMENTS = ("/api/v1/estate", "/api/v1/rulesets", "/api/v1/directory")
"""Where whole documents are sent."""
_FEEDS = "/api/v1/feeds/"
"""Where the files of feeds are sent, which are never held in memory whole."""


def _most(path: str) -> int:
    """How many bytes a request to a path may carry."""
    if path.startswith(_FEEDS) and path.endswith("/import"):
        return MAX_FEED
    return MAX_DOCUMENT if path.startswith(_DOCUMENTS) else MAX_BODY


TICK_SECONDS = 20.0
CONSOLE = Path(__file__).parent / "console"

_log = structlog.get_logger("portero.service")

_HEADERS = {
    "Content-Security-Policy": (
        "default-src 'none'; script-src 'self'; style-src 'self'; style-src-attr 'unsafe-inline'; img-src 'self' data:;"
        " font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
    ),
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Opener-Policy": "same-origin",
}

_DESCRIPTION = """
Everything that the console and the command line do goes through this interface.

Sign in for a cookie (`POST /api/v1/session`), or send an API token as `Authorization: Bearer …`. Every object has an
ETag; changes take `If-Match`, creations an `Idempotency-Key`. Lists page by `cursor` and carry a `total`. Errors are
problem details (RFC 9457). Times are RFC 3339 in UTC.
"""


class Bounded:
    """Refuses a request body over the bound, whether it is announced or streamed."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        announced = dict(scope["headers"]).get(b"content-length", b"0")
        most = _most(scope["path"])
        too_large = Refusal("too-large", f"This request may carry up to {most // 1_000_000} MB.")
        if not announced.isdigit() or int(announced) > most:
            await too_large.response()(scope, receive, send)
            return
        seen = 0

        async def bounded() -> Message:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            if seen > most:
                raise too_large
            return message

        await self._app(scope, bounded, send)


async def _observed(request: Request, call_next: Callable[[Request], Awaitable[Response]]) -> Response:
    """Give every answer its request id and security headers, and log one line for it."""
    request_id, began = uuid4().hex[:16], time.perf_counter()
    response: Response
    try:
        response = await call_next(request)
    except Exception:
        _log.exception("failed", method=request.method, path=request.url.path, request_id=request_id)
        response = JSONResponse(
            {
                "type": "urn:portero:problem:internal",
                "title": "Something went wrong inside the service",
                "status": 500,
                "detail": f"It is in the service's log under request id {request_id}.",
            },
            500,
            media_type=problems.MEDIA_TYPE,
        )
    response.headers["X-Request-Id"] = request_id
    for name, value in _HEADERS.items():
        response.headers.setdefault(name, value)
    if request.url.scheme == "https":
        response.headers["Strict-Transport-Security"] = "max-age=31536000"
    if request.url.path.startswith("/api/"):
        response.headers.setdefault("Cache-Control", "no-store")
    level = _log.warning if response.status_code >= 500 else _log.info
    level(
        "request",
        method=request.method,
        path=request.url.path,
        status=response.status_code,
        ms=round((time.perf_counter() - began) * 1000, 1),
        request_id=request_id,
    )
    return response


async def _tick(keepers: Keepers) -> None:
    """Let the keepers take note that time passes. A failure is logged, and the next time may go well."""
    while True:
        try:
            await run_in_threadpool(keepers.let_time_pass)
        except Exception:
            _log.exception("failed", task="let_time_pass")
        await asyncio.sleep(TICK_SECONDS)


def _operation_id(route: APIRoute) -> str:
    return route.operation_id or route.name


def create_app(keepers: Keepers | None = None) -> FastAPI:
    """The application over a service's keepers. Without them it only describes itself (for the OpenAPI document)."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        app.state.keepers.live.start(asyncio.get_running_loop())
        ticking = asyncio.create_task(_tick(app.state.keepers))
        yield
        ticking.cancel()
        app.state.keepers.close()

    app = FastAPI(
        title="Portero",
        version=__version__,
        description=_DESCRIPTION,
        lifespan=lifespan,
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/v1/openapi.json",
        generate_unique_id_function=_operation_id,
        separate_input_output_schemas=False,
    )
    app.state.keepers = keepers
    app.state.noting = CapacityLimiter(wire.NOTING_THREADS)
    problems.install(app)
    for router in (*(part.router for part in _PARTS), _noun_routes()):
        app.include_router(router, prefix="/api/v1", responses=_PROBLEM, dependencies=[Depends(refuse_stray_preview)])
    app.router.routes.extend(wire.ROUTES)
    _health(app)
    joining.install(app)
    _console(app)
    app.middleware("http")(_observed)
    app.add_middleware(Bounded)
    return app


_PARTS = (
    access,
    devices,
    rollout,
    readiness,
    enrolment,
    epochs,
    groups,
    settings,
    rulesets,
    indicators,
    schedules,
    application_sets,
    directory,
    feeds,
    corrections,
    estate,
    findings,
    revisions,
    board,
    overlaps,
    worklist,
    warnings,
    categories,
    checks,
    activity,
    stream,
    nouns,
)
_PARTICULAR = (
    groups,
    schedules,
    application_sets,
    rulesets,
    assignments,
    notices,
    corrections,
    services,
    layer_modes,
    coverage,
    feeds,
)
"""Modules with something particular about their noun's routes; those of all others are made alike."""


def _noun_routes() -> APIRouter:
    """The routes of every noun in the registry."""
    router, particular = APIRouter(), {part.ROUTES.noun.word: part.ROUTES for part in _PARTICULAR}
    for word, noun in NOUNS.items():
        nouns.install(router, particular.get(word) or NounRoutes(noun))
    return router


_PROBLEM: dict[int | str, dict[str, Any]] = {
    "default": {
        "description": "A problem (RFC 9457), with a stable type and a detail that says what to do.",
        "content": {
            problems.MEDIA_TYPE: {
                "schema": {
                    "type": "object",
                    "required": ["type", "title", "status", "detail"],
                    "properties": {
                        "type": {"type": "string"},
                        "title": {"type": "string"},
                        "status": {"type": "integer"},
                        "detail": {"type": "string"},
                        "errors": {
                            "type": "array",
                            "items": {
                                "type": "object",
                                "properties": {"pointer": {"type": "string"}, "detail": {"type": "string"}},
                            },
                        },
                    },
                },
                "example": {
                    "type": "urn:portero:problem:not-found",
                    "title": "Not found",
                    "status": 404,
                    "detail": "There is no group “shps”; did you mean “ships”?",
                },
            }
        },
    }
}


def _health(app: FastAPI) -> None:
    @app.get("/healthz", include_in_schema=False)
    async def healthz() -> dict[str, str]:
        """The process is alive."""
        return {"status": "ok", "version": __version__}

    @app.get("/readyz", include_in_schema=False)
    def readyz() -> Response:
        """The store can be read and written."""
        keepers = app.state.keepers
        keepers.store.check()
        told = {"status": "ready", "revision": keepers.estate.snapshot.revision}
        problem = keepers.fleet.epoch().problem
        return JSONResponse({**told, "problem": problem} if problem else told)


def _file_of_console(rest: str) -> Path | None:
    """The file of the console at an address below it; None where the console itself is meant."""
    try:
        file = (CONSOLE / rest).resolve()
        return file if rest and file.is_relative_to(CONSOLE) and file.is_file() else None
    except (ValueError, OSError):
        # no file can have such a name
        return None


def _console(app: FastAPI) -> None:
    # a redirect of the framework's own would go to whatever host the request names
    app.router.redirect_slashes = False

    @app.get("/", include_in_schema=False)
    @app.get("/console", include_in_schema=False)
    async def root() -> Response:
        return RedirectResponse("/console/")

    @app.api_route("/api/{rest:path}", methods=["GET", "HEAD"], include_in_schema=False)
    async def no_such_call(request: Request) -> Response:
        # declared before the console's fallback, so that a mistyped call is told as JSON
        raise Refusal("not-found", f"There is nothing at {request.url.path[:200]}; see /api/v1/openapi.json.")

    @app.get("/console/{rest:path}", include_in_schema=False)
    async def console(rest: str) -> Response:
        if not (CONSOLE / "index.html").exists():
            raise Refusal("not-found", "The console has not been built; run “make setup”.")
        if (file := _file_of_console(rest)) is not None:
            cached = "public, max-age=31536000, immutable" if rest.startswith("assets/") else "no-cache"
            return FileResponse(file, headers={"Cache-Control": cached})
        return FileResponse(CONSOLE / "index.html", headers={"Cache-Control": "no-cache"})
