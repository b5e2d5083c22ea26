"""Corrections of hosts, with who and why; and as a file for a feed's keeper."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from typing import Annotated

from fastapi import Depends, Query, Response
from fastapi.responses import StreamingResponse

from portero.core.nouns.base import rfc3339
from portero.core.nouns.estate import NOUNS
from portero.core.nouns.urls import normal_site
from portero.formats.cells import guarded
from portero.service.auditing import audited_router
from portero.service.problems import Refusal
from portero.service.routes.common import Signed, TheKeepers, gives
from portero.service.routes.nouns import NounRoutes, Sift

router = audited_router("corrections")


def _sifting(
    keepers: TheKeepers,
    feed: Annotated[str | None, Query(max_length=64, description="Only hosts that this feed names.")] = None,
) -> Sift:
    if feed is None:
        return lambda _one: True
    says = keepers.lookups.entries_of(feed)
    return lambda one: says is not None and says.get(one.host) is not None


def _folded(host: str) -> str:
    try:
        return normal_site(host)
    except ValueError as problem:
        raise Refusal("not-found", str(problem)) from problem


ROUTES = NounRoutes(
    NOUNS["correction"],
    telling=lambda keepers, _snapshot: keepers.lookups.tell_correction,
    sifting=_sifting,
    is_made_by_post=False,
    folded=_folded,
)


@router.get(
    "/corrections.csv",
    summary="Corrections for a feed's keeper",
    operation_id="exportCorrections",
    response_class=Response,
    responses=gives("text/csv"),
)
def export_corrections(
    _who: Signed, keepers: TheKeepers, is_wanted: Annotated[Sift, Depends(_sifting)]
) -> StreamingResponse:
    """Corrections as CSV, to be sent to whoever keeps a feed: what it says, what it should say, and why."""
    found = ROUTES.page(keepers, keepers.estate.snapshot, is_wanted, None, None, None).items

    def lines() -> Iterator[str]:
        yield "host,feed_says,should_be,reason,by,at\n"
        for correction in found:
            cells = (
                correction.host,
                " ".join(correction.feeds_say),
                " ".join(correction.categories),
                correction.reason or "",
                correction.by or "",
            )
            text = io.StringIO()
            at = rfc3339(correction.at) if correction.at else ""
            csv.writer(text, lineterminator="\n").writerow([*map(guarded, cells), at])
            yield text.getvalue()

    return StreamingResponse(lines(), media_type="text/csv; charset=utf-8")
