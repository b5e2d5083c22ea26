"""Reading a TAXII 2.1 collection page by page (OASIS TAXII 2.1, 5.4 Get Objects)."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, NamedTuple
from urllib.parse import urlencode

import httpx

from portero.formats.feed_files import BadFeed, unpacked
from portero.formats.stix import parse
from portero.service.feeds.fetching import FetchProblem, Source

MEDIA_TYPE = "application/taxii+json;version=2.1"
MAX_PAGE_BYTES = 40_000_000
MAX_OBJECTS = 1_000_000
PAGE = 1_000


class Envelope(NamedTuple):
    """One page: its objects, where the next one is, and the newest moment at which one of them was added."""

    objects: list[dict[str, Any]]
    next: str | None
    added_last: str | None


def read_collection(
    source: Source, added_after: str | None, note: Callable[[int], None] = lambda _number: None
) -> Iterator[Envelope]:
    """The pages of a collection, of what was added after a moment where one is given. FetchProblem.

    A server that lies about its pages is not believed: one without objects that says there are more, one that says so
    and does not say where, and one whose pages come again. (That `next` stays the same from page to page is no lie.)
    """
    seen: set[int] = set()
    following, total = None, 0
    while True:
        envelope = _page(source, {"added_after": added_after, "next": following})
        total += len(envelope.objects)
        if total > MAX_OBJECTS:
            raise FetchProblem(f"the collection has more than {MAX_OBJECTS:,} objects, which is more than is read")
        note(total)
        yield envelope
        following = envelope.next
        if following is None:
            return
        if not envelope.objects:
            raise FetchProblem("the server says that there is more, and sends none of it")
        page = hash(tuple(f"{object_.get('id')} {object_.get('modified')}" for object_ in envelope.objects))
        if page in seen:
            raise FetchProblem("the server's pages lead back to where they were")
        seen.add(page)


def _page(source: Source, asked: dict[str, str | None]) -> Envelope:
    query = urlencode({"limit": PAGE, **{name: value for name, value in asked.items() if value is not None}})
    url = f"{source.address.rstrip('/')}/objects/?{query}"
    with source.reading(url, {"Accept": MEDIA_TYPE, "Accept-Encoding": "gzip"}) as answer:
        _refuse_status(answer)
        body = bytearray()
        for chunk in unpacked(source.chunks(answer), MAX_PAGE_BYTES):
            body += chunk
        # a page of a single object has only the first on some servers
        added = (answer.headers.get(f"x-taxii-date-added-{which}") for which in ("last", "first"))
        return _envelope(bytes(body), next(filter(None, added), None))


def _refuse_status(answer: httpx.Response) -> None:
    if answer.status_code in (401, 403):
        raise FetchProblem("the server does not let this feed in; give it a credential, or another one")
    if answer.status_code == 404:
        raise FetchProblem("there is no collection at this address; it ends in /collections/ID/")
    if answer.status_code != 200:
        raise FetchProblem(f"the server answered {answer.status_code}")
    if "taxii" not in answer.headers.get("content-type", ""):
        raise FetchProblem("what answers there does not speak TAXII 2.1")


def _envelope(body: bytes, added_last: str | None) -> Envelope:
    try:
        page = parse(body)
        objects = page.get("objects", [])
        if not isinstance(objects, list) or not all(isinstance(object_, dict) for object_ in objects):
            raise ValueError("its objects are no list of objects")
    except (BadFeed, ValueError, AttributeError) as problem:
        raise FetchProblem(f"a page does not read as a TAXII envelope: {str(problem)[:160]}") from problem
    if not page.get("more"):
        return Envelope(objects, None, added_last)
    if not isinstance(page.get("next"), str):
        raise FetchProblem("the server says that there is more, and does not say where")
    return Envelope(objects, page["next"], added_last)
