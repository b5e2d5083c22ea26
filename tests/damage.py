"""Damage done on purpose to what a machine keeps, and a service that does not answer for some of what is asked."""

from __future__ import annotations

from pathlib import Path

import httpx

from portero.endpoint import category_index, held_policy


class Away(httpx.AsyncBaseTransport):
    """The service does not answer for some of what is asked."""

    def __init__(self, *parts: str) -> None:
        self._parts = parts

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        if request.url.path.split("/")[3] in self._parts:
            raise httpx.ConnectError("away", request=request)
        async with httpx.AsyncHTTPTransport() as inner:
            answer = await inner.handle_async_request(request)
            return httpx.Response(answer.status_code, headers=answer.headers, content=await answer.aread())


def flip(file: Path, place: int = -3) -> None:
    """One byte of a file is another."""
    data = bytearray(file.read_bytes())
    data[place] ^= 1
    file.write_bytes(bytes(data))


def index_file(folder: Path, described: bool) -> Path:
    """The description of the category index on a machine, or the biggest file that it names."""
    by_size = sorted((folder / "index").iterdir(), key=lambda file: file.stat().st_size)
    return by_size[0] if described else by_size[-1]


def forget() -> None:
    """What programs remember of a machine's files goes, as where they start anew."""
    category_index.open_index.cache_clear()
    held_policy._rulings_of.cache_clear()
