"""The application: routes, errors, bounds, logs, security headers and the console's files."""

from __future__ import annotations

import asyncio
import threading
import time
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import structlog
from fastapi import APIRouter, Depends, FastAPI, Request
from fastapi.responses import FileResponse, JSONResponse, RedirectResponse, Response
from fastapi.routing import APIRoute
from starlette.concurrency import run_in_threadpool
from starlette.types import ASGIApp

from portero import __version__
from portero.core.nouns.estate import NOUNS
from portero.service import joining, problems
from portero.service.auditing import audited_router
from portero.service.keepers import Keepers
from portero.service.metrics import MEDIA_TYPE, Metrics
from portero.service.middleware import Bounded, Compressed, Observed
from portero.service.problems import Refusal
from portero.service.routes import (
    access,
    activity,
    address_lists,
    administrators,
    application_corrections,
    application_sets,
    applications,
    assignments,
    audit,
    board,
    categories,
    checks,
    compared,
    corrections,
    coverage,
    devices,
    directory,
    enrolment,
    epochs,
    errands,
    estate,
    evidence,
    feeds,
    findings,
    groups,
    indicators,
    layer_modes,
    notices,
    nouns,
    overlaps,
    probe_sets,
    pushes,
    quick_rules,
    readiness,
    restrictions,
    revisions,
    rollout,
    rulesets,
    runs,
    schedules,
    services,
    settings,
    site_lists,
    stream,
    warnings,
    whys,
    worklist,
)
from portero.service.routes.common import Signed, refuse_stray_preview
from portero.service.routes.nouns import NounRoutes
from portero.service.wire import DeviceWire
from portero.service.working import Working
from portero.store.database import StoreProblem

TICK_SECONDS = 20.0
HEARD_SECONDS = 1.0
PROVE_SECONDS = 2.0
OBSERVE_SECONDS = 1.0
CONSOLE = Path(__file__).parent / "console"

_log = structlog.get_logger("portero.service")

_DESCRIPTION = """
Everything that the console and the command line do goes through this interface.

Sign in for a cookie (`POST /api/v1/session`), or send an API token as `Authorization: Bearer …`. Every object has an
ETag; changes take `If-Match`, creations an `Idempotency-Key`. Lists page by `cursor` and carry a `total`. Errors are
problem details (RFC 9457). Times are RFC 3339 in UTC. With `Accept: text/event-stream` an answer that takes its time
comes as server-sent events: `working` says how far it is, and `answered`, the last, has `status`, `headers` and `body`.
"""


def with_devices(app: FastAPI) -> ASGIApp:
    """What is served: what devices ask before the framework, all else by the application."""
    return DeviceWire(app, app.state.keepers, app.state.metrics)


async def _again(task: str, work: Callable[[], None], seconds: float) -> None:
    """Work again and again, so many seconds apart. A failure is logged, and the next time may go well."""
    while True:
        try:
            await run_in_threadpool(work)
        except Exception:
            _log.exception("failed", task=task)
        await asyncio.sleep(seconds)


def _operation_id(route: APIRoute) -> str:
    return route.operation_id or route.name


def create_app(keepers: Keepers | None = None) -> FastAPI:
    """The application over a service's keepers. Without them it only describes itself (for the OpenAPI document)."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        keepers: Keepers = app.state.keepers
        keepers.live.start(asyncio.get_running_loop())
        again = (
            _again("let_time_pass", keepers.let_time_pass, TICK_SECONDS),
            _again("heard", keepers.heard.write, HEARD_SECONDS),
            _again("proofs", keepers.proving.let_time_pass, PROVE_SECONDS),
            _again("observing", keepers.observing.let_time_pass, OBSERVE_SECONDS),
        )
        ticking = [asyncio.create_task(task) for task in again]
        yield
        for task in ticking:
            task.cancel()
        keepers.close()

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
    app.state.metrics = Metrics(keepers)
    problems.install(app)
    for router in (*(part.router for part in _PARTS), _noun_routes()):
        app.include_router(router, prefix="/api/v1", responses=_PROBLEM, dependencies=[Depends(refuse_stray_preview)])
    _health(app)
    joining.install(app)
    _console(app)
    # the one that is added last is the outermost
    app.add_middleware(Working)
    app.add_middleware(Compressed)
    app.add_middleware(Bounded)
    app.add_middleware(Observed, metrics=app.state.metrics)
    return app


_PARTS = (
    access,
    administrators,
    audit,
    devices,
    rollout,
    readiness,
    enrolment,
    errands,
    epochs,
    groups,
    settings,
    rulesets,
    assignments,
    indicators,
    schedules,
    application_sets,
    applications,
    directory,
    feeds,
    corrections,
    estate,
    findings,
    revisions,
    board,
    overlaps,
    quick_rules,
    restrictions,
    whys,
    compared,
    runs,
    evidence,
    probe_sets,
    worklist,
    warnings,
    categories,
    checks,
    site_lists,
    pushes,
    activity,
    stream,
    nouns,
)
_PARTICULAR = (
    groups,
    schedules,
    application_sets,
    application_corrections,
    rulesets,
    assignments,
    notices,
    corrections,
    services,
    address_lists,
    layer_modes,
    coverage,
    feeds,
    probe_sets,
)
"""Modules with something particular about their noun's routes; those of all others are made alike."""


def _noun_routes() -> APIRouter:
    """The routes of every noun in the registry."""
    router, particular = audited_router(), {part.ROUTES.noun.word: part.ROUTES for part in _PARTICULAR}
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


class _Ready:
    """Whether the store can be read and written, really tried, once a second at the most: anybody may ask."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._looked = float("-inf")
        self._told: dict[str, Any] = {}
        self._problem: StoreProblem | None = None

    def look(self, keepers: Keepers) -> dict[str, Any]:
        """What is told. StoreProblem where it is not ready."""
        with self._lock:
            if time.monotonic() - self._looked >= 1.0:
                self._problem = None
                try:
                    keepers.store.check()
                    epoch = keepers.fleet.epoch()
                    self._told = {"status": "ready", "revision": epoch.revision}
                    self._told |= {"problem": epoch.problem} if epoch.problem else {}
                except StoreProblem as problem:
                    self._problem = problem
                self._looked = time.monotonic()
            if self._problem is not None:
                raise self._problem
            return self._told


def _health(app: FastAPI) -> None:
    ready = _Ready()

    @app.get("/metrics", include_in_schema=False)
    def metrics(_who: Signed) -> Response:
        """What the service measures of itself, for Prometheus, with a token."""
        return Response(app.state.metrics.written(), media_type=MEDIA_TYPE)

    @app.get("/healthz", include_in_schema=False)
    async def healthz() -> dict[str, str]:
        """The process is alive."""
        return {"status": "ok", "version": __version__}

    @app.get("/readyz", include_in_schema=False)
    def readyz() -> Response:
        """The store can be read and written."""
        return JSONResponse(ready.look(app.state.keepers))


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
