"""The audit trail: for keepers, and for those who may see who people are."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice
from typing import Annotated

from fastapi import Depends, Query, Response
from fastapi.responses import StreamingResponse

from portero.core.nouns.audit import AuditEntry
from portero.core.nouns.base import Timestamp
from portero.core.nouns.page import Page
from portero.formats.audit import MEDIA_TYPE
from portero.service.auditing import acts, audited_router
from portero.service.keepers import Keepers
from portero.service.routes.common import Cursor, Limit, Signed, TheKeepers, not_permitted
from portero.store import audit
from portero.store.access import Principal
from portero.store.audit import AuditFilter

router = audited_router("audit")
_BATCH = 500


def _may_see(who: Signed, keepers: TheKeepers) -> Principal:
    if who.role != "keeper" and not who.sees_names:
        raise not_permitted(keepers, "the right to see names", f"{who.name} has it not")
    return who


Looking = Annotated[Principal, Depends(_may_see)]


@router.get("/audit", summary="List the audit trail", operation_id="listAudit")
def list_audit(
    _who: Looking,
    keepers: TheKeepers,
    by: Annotated[str | None, Query(max_length=120, description="By this administrator.")] = None,
    act: Annotated[str | None, Query(max_length=60, description="The operationId of a call.")] = None,
    since: Annotated[Timestamp | None, Query(description="Not before this moment.")] = None,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Page[AuditEntry]:
    """What administrators did, and what was done about them, newest first."""
    wanted = AuditFilter(by, act, since.timestamp() if since else None)
    with keepers.store.reading() as connection:
        found = audit.list_entries(connection, wanted, cursor, limit)
    return Page(items=[audit.entry_of(row) for row in found.rows], next=found.next, total=found.total)


@router.get(
    "/audit/lines",
    summary="The audit trail as JSON Lines",
    operation_id="exportAudit",
    response_class=Response,
    responses={200: {"content": {MEDIA_TYPE: {"schema": {"type": "string"}}}}},
)
@acts
def export_audit(
    _who: Looking,
    keepers: TheKeepers,
    after: Annotated[int, Query(ge=0, le=2**53, description="Only entries after that number.")] = 0,
) -> StreamingResponse:
    """All of it in its order, as it was written and chained: `portero audit verify` looks it through."""
    return StreamingResponse(_lines(keepers, after), media_type=MEDIA_TYPE)


def _lines(keepers: Keepers, after: int) -> Iterator[str]:
    with keepers.store.reading() as connection:
        lines = audit.lines(connection, after)
        while some := list(islice(lines, _BATCH)):
            yield "".join(line + "\n" for line in some)
