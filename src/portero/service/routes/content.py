"""What is known of hosts beside feeds: corrections, with who and why, and as a file for a feed's keeper."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from typing import Annotated

from fastapi import APIRouter, Path, Query, Response
from fastapi.responses import StreamingResponse

from portero.core.nouns.base import rfc3339
from portero.core.nouns.estate import Correction
from portero.core.nouns.lookup import CorrectionSummary
from portero.core.nouns.page import Page
from portero.core.nouns.urls import normal_site
from portero.formats.cells import guarded
from portero.service import lookup
from portero.service.desk import Desk
from portero.service.problems import Problem
from portero.service.routes.common import Authoring, Cursor, IfMatch, Limit, Signed, TheDesk, offset_page, save, tagged

router = APIRouter(tags=["corrections"])
Host = Annotated[str, Path(max_length=400, description="The host.")]


def _wanted(desk: Desk, q: str | None, feed: str | None) -> list[CorrectionSummary]:
    text = (q or "").casefold()
    found = lookup.corrections(desk)
    if feed is not None:
        saying = desk.holdings.files_in_force(desk.snapshot.estate).get(feed)
        found = [one for one in found if saying is not None and saying.get(one.host) is not None]
    return [one for one in found if text in f"{one.host} {' '.join(one.categories)} {one.reason or ''}".casefold()]


@router.get("/corrections", summary="List corrections", operation_id="listCorrections")
def list_corrections(
    _who: Signed,
    desk: TheDesk,
    q: Annotated[str | None, Query(max_length=200, description="Part of host, categories or reason.")] = None,
    feed: Annotated[str | None, Query(max_length=64, description="Only hosts that this feed names.")] = None,
    cursor: Cursor = None,
    limit: Limit = 1000,
) -> Page[CorrectionSummary]:
    """Hosts whose categories the organisation sees otherwise than the feeds: who says so, and why."""
    return offset_page(_wanted(desk, q, feed), cursor, limit)


@router.get(
    "/corrections.csv",
    summary="Corrections for a feed's keeper",
    operation_id="exportCorrections",
    response_class=Response,
    responses={200: {"content": {"text/csv": {"schema": {"type": "string"}}}}},
)
def export_corrections(
    _who: Signed, desk: TheDesk, feed: Annotated[str | None, Query(max_length=64)] = None
) -> StreamingResponse:
    """Corrections as CSV, to be sent to whoever keeps a feed: what it says, what it should say, and why."""
    found = _wanted(desk, None, feed)

    def lines() -> Iterator[str]:
        yield "host,feed_says,should_be,reason,by,at\n"
        for one in found:
            cells = (one.host, " ".join(one.feeds_say), " ".join(one.categories), one.reason or "", one.by or "")
            text = io.StringIO()
            at = rfc3339(one.at) if one.at else ""
            csv.writer(text, lineterminator="\n").writerow([*map(guarded, cells), at])
            yield text.getvalue()

    return StreamingResponse(lines(), media_type="text/csv; charset=utf-8")


def _named(desk: Desk, host: str) -> CorrectionSummary:
    for one in lookup.corrections(desk):
        if one.host == host:
            return one
    raise Problem("not-found", f"There is no correction of “{host[:100]}”.")


@router.get("/corrections/{host}", summary="Show a correction", operation_id="getCorrection")
def get_correction(host: Host, response: Response, _who: Signed, desk: TheDesk) -> CorrectionSummary:
    """One correction, with who made it and what feeds say."""
    found = _named(desk, _normal(host))
    tagged(response, found.version)
    return found


def _normal(host: str) -> str:
    try:
        return normal_site(host)
    except ValueError as problem:
        raise Problem("not-found", str(problem)) from problem


@router.put("/corrections/{host}", summary="Correct a host", operation_id="putCorrection")
def put_correction(
    host: Host, body: Correction, response: Response, change: Authoring, if_match: IfMatch = None
) -> CorrectionSummary:
    """Say in which categories a host is, in place of what feeds say. A new one needs no If-Match."""
    edit = save("correction", "corrections", _normal(host), if_match, body, by="host", may_be_new=True)
    change(edit, noun="correction", reason=body.reason)
    return get_correction(body.host, response, change.who, change.desk)


@router.delete(
    "/corrections/{host}", summary="Take a correction back", operation_id="removeCorrection", status_code=204
)
def remove_correction(host: Host, change: Authoring, if_match: IfMatch = None) -> None:
    """Let what feeds say of a host count again."""
    change(save("correction", "corrections", _normal(host), if_match, None, by="host"), noun="correction")
