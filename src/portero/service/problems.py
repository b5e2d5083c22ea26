"""Errors as RFC 9457 problem details: a stable type, what to do, and JSON Pointers to the fields at fault."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from starlette.exceptions import HTTPException

from portero.core import wording
from portero.core.nouns.base import without_tags
from portero.core.nouns.faults import fault_at, fault_of
from portero.core.nouns.urls import BadUrl
from portero.formats.places import pointer
from portero.store.database import StoreFull, StoreProblem
from portero.store.paging import BadCursor

MEDIA_TYPE = "application/problem+json"

TITLES = {
    "bad-request": (400, "The request cannot be read"),
    "not-signed-in": (401, "Not signed in"),
    "not-allowed": (403, "Not allowed"),
    "password-change-needed": (403, "The password has to be changed first"),
    "not-found": (404, "Not found"),
    "already-exists": (409, "Already there"),
    "ambiguous-device": (409, "More than one device"),
    "in-use": (409, "Still in use"),
    "gate": (409, "A probe of the gate would fail"),
    "unproved": (409, "It does not do what its probes expect"),
    "changed-meanwhile": (412, "Changed by somebody else meanwhile"),
    "too-large": (413, "Too large"),
    "invalid": (422, "Not valid"),
    "precondition-required": (428, "Say which version you saw"),
    "too-many-tries": (429, "Too many tries"),
    "unavailable": (503, "Not available just now"),
    "no-room": (507, "No room on the disk"),
}


class ProblemResponse(JSONResponse):
    """A problem as an answer. What it quotes of a request may hold half a character, which is no UTF-8."""

    media_type = MEDIA_TYPE

    def render(self, content: Any) -> bytes:
        return json.dumps(content, ensure_ascii=False, separators=(",", ":")).encode("utf-8", "replace")


class Refusal(Exception):
    """Something that the caller has to know. `extra` fields go into the answer beside the standard ones."""

    def __init__(
        self,
        kind: str,
        detail: str,
        *,
        errors: Sequence[dict[str, str]] = (),
        headers: dict[str, str] | None = None,
        **extra: Any,
    ) -> None:
        super().__init__(detail)
        self.kind, self.detail, self.errors, self.headers, self.extra = kind, detail, errors, headers, extra

    def response(self) -> JSONResponse:
        """The problem as an HTTP answer."""
        status, title = TITLES[self.kind]
        body: dict[str, Any] = {
            "type": f"urn:portero:problem:{self.kind}",
            "title": title,
            "status": status,
            "detail": self.detail,
            **self.extra,
        }
        if self.errors:
            body["errors"] = list(self.errors)
        return ProblemResponse(body, status, self.headers)


def field_error(path: Sequence[str | int], detail: str) -> dict[str, str]:
    """One entry of `errors`: a JSON Pointer (RFC 6901) and what is wrong there."""
    return {"pointer": pointer(tuple(path)), "detail": detail}


def _invalid(error: RequestValidationError) -> Refusal:
    errors, said = [], ""
    for fault in error.errors():
        where, *path = fault["loc"]
        if fault["type"] == "json_invalid":
            return Refusal("bad-request", f"The body is not JSON: {fault['ctx']['error']}.")
        message = fault_of(fault)
        if fault["type"] == "extra_forbidden":
            message = f"unknown key “{str(path[-1])[:64]}”"
        parts = without_tags(path)
        if where == "body":
            errors.append(field_error([str(part) for part in parts], message))
        else:
            errors.append({"pointer": "", where: ".".join(map(str, parts)), "detail": message})
        said = said or (fault_at(parts, message) if parts else f"the body: {message}")
    more = f" (and {len(errors) - 1} more, see errors)" if len(errors) > 1 else ""
    return Refusal("invalid", wording.as_sentence(said + more), errors=errors)


_TOLD: dict[type[Exception], str] = {
    StoreFull: "no-room",
    StoreProblem: "unavailable",
    BadCursor: "bad-request",
    BadUrl: "invalid",
}


def refusal_of(error: Exception) -> Refusal | None:
    """What is told of an error, wherever it was met; None where nobody foresaw it."""
    if isinstance(error, Refusal):
        return error
    if isinstance(error, UnicodeEncodeError):
        # where it is met depends on who first writes it as UTF-8
        return Refusal("invalid", "A text holds half a character (a lone surrogate); send whole ones.")
    kind = next((kind for of, kind in _TOLD.items() if isinstance(error, of)), None)
    return Refusal(kind, str(error)) if kind is not None else None


def method_not_allowed(method: str, headers: Mapping[str, str]) -> ProblemResponse:
    """There is something, but not for this method."""
    body = {
        "type": "urn:portero:problem:method-not-allowed",
        "title": "Method not allowed",
        "status": 405,
        "detail": f"{method} is not possible here; see the Allow header.",
    }
    return ProblemResponse(body, 405, dict(headers))


def install(app: FastAPI) -> None:
    """Answer every error of the application as a problem."""

    async def told(_request: Request, error: Exception) -> JSONResponse:
        problem = refusal_of(error)
        assert problem is not None
        return problem.response()

    async def validation(_request: Request, error: RequestValidationError) -> JSONResponse:
        return _invalid(error).response()

    async def http(request: Request, error: HTTPException) -> JSONResponse:
        if error.status_code == 404:
            return Refusal("not-found", f"There is nothing at {request.url.path[:200]}.").response()
        if error.status_code == 405:
            return method_not_allowed(request.method, error.headers or {})
        return Refusal("bad-request", str(error.detail)).response()

    app.add_exception_handler(RequestValidationError, validation)  # type: ignore[arg-type]
    app.add_exception_handler(HTTPException, http)  # type: ignore[arg-type]
    for kind in (Refusal, UnicodeEncodeError, *_TOLD):
        app.add_exception_handler(kind, told)


def failed(request_id: str) -> ProblemResponse:
    """What is told of what nobody foresaw."""
    return ProblemResponse(
        {
            "type": "urn:portero:problem:internal",
            "title": "Something went wrong inside the service",
            "status": 500,
            "detail": f"It is in the service's log under request id {request_id}.",
        },
        500,
    )
