"""Files that may be big, fetched from the service: where a link broke it goes on."""

from __future__ import annotations

from pathlib import Path

import httpx

from portero.core.digests import digits_of
from portero.endpoint.calls import NotTaken, ServiceUnreachable
from portero.endpoint.folder import Identity


def file_name(digest: str) -> str:
    """The name under which something is kept here."""
    return digits_of(digest)


async def gather(http: httpx.AsyncClient, identity: Identity, address: str, into: Path, have: int, most: int) -> None:
    """Fetch what is missing of a file, of which some bytes are there; it is cut where it is longer than it may be.

    ServiceUnreachable, NotTaken.
    """
    headers = {"Authorization": f"Bearer {identity.credential}"}
    if have:
        headers["Range"] = f"bytes={have}-"
    url = f"{identity.service}/device/v1/{address}"
    try:
        async with http.stream("GET", url, headers=headers, timeout=60.0) as answer:
            if answer.status_code == 416:
                return  # there is no more of it
            if answer.status_code not in (200, 206):
                raise NotTaken(f"the service answered {answer.status_code} for {address.partition('/')[0]}")
            with into.open("ab" if answer.status_code == 206 else "wb") as out:
                async for chunk in answer.aiter_bytes():
                    out.write(chunk)
                    if out.tell() > most:
                        break  # more than was signed for: it is none of it
    except httpx.HTTPError as problem:
        told = problem or type(problem).__name__
        raise ServiceUnreachable(f"{address.partition('/')[0]} broke off on its way: {told}") from problem
