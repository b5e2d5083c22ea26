"""Asking the service: what it refuses, what it does not take just now, and that it cannot be reached."""

from __future__ import annotations

import json
from typing import Any

import httpx

from portero.formats.packing import MAX_BUNDLE_BYTES


class ServiceRefused(RuntimeError):
    """The service refuses this device or its code; the message is the service's own."""


class NotTaken(RuntimeError):
    """The service does not take this one message; asking again later may go well."""


class ServiceUnreachable(RuntimeError):
    """The service cannot be reached just now; the last good bundle holds."""


async def _bounded(http: httpx.AsyncClient, method: str, url: str, **options: Any) -> httpx.Response:
    async with http.stream(method, url, **options) as answer:
        body = bytearray()
        async for chunk in answer.aiter_bytes():
            body += chunk
            if len(body) > MAX_BUNDLE_BYTES:
                raise NotTaken("the service's answer is longer than any that is taken")
    # unpacked already, and of another length than was announced
    headers = [pair for pair in answer.headers.raw if pair[0].lower() not in (b"content-encoding", b"content-length")]
    return httpx.Response(answer.status_code, headers=headers, content=bytes(body), request=answer.request)


async def ask(http: httpx.AsyncClient, method: str, url: str, **options: Any) -> httpx.Response:
    """The service's answer. ServiceRefused, NotTaken, ServiceUnreachable."""
    try:
        answer = await _bounded(http, method, url, **options)
    except httpx.HTTPError as problem:
        raise ServiceUnreachable(
            f"{url.split('/device/')[0]} does not answer: {problem or type(problem).__name__}"
        ) from problem
    if answer.status_code >= 500 or answer.status_code == 429:
        raise ServiceUnreachable(f"the service answered {answer.status_code}")
    if answer.status_code >= 400:
        try:
            detail = str(answer.json()["detail"])
        except (json.JSONDecodeError, KeyError, TypeError):
            detail = f"the service answered {answer.status_code}"
        raise (ServiceRefused if answer.status_code in (401, 403) else NotTaken)(detail)
    return answer
