"""The attempts that devices reported."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from portero.core.nouns.action import Verdict
from portero.core.nouns.activity import Activity
from portero.core.nouns.page import Page
from portero.service.routes.common import Cursor, Limit, Signed, TheKeepers
from portero.store import activity
from portero.store.activity import ActivityFilter

router = APIRouter(tags=["activity"])


@router.get("/activity", summary="List activity", operation_id="listActivity")
def list_activity(
    _who: Signed,
    keepers: TheKeepers,
    device: Annotated[str | None, Query(max_length=253, description="Id or hostname.")] = None,
    host: Annotated[str | None, Query(max_length=253, description="Part of the host.")] = None,
    verdict: Verdict | None = None,
    user: Annotated[str | None, Query(max_length=255)] = None,
    reference: Annotated[str | None, Query(max_length=20, description="The code on a notice.")] = None,
    tests: Annotated[bool, Query(description="With visits to test hosts.")] = False,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Page[Activity]:
    """The attempts that devices reported one by one (blocked, warned, logged), newest first."""
    id = keepers.fleet.device(device).id if device else None
    code = reference.strip().upper() if reference else None
    wanted = ActivityFilter(id, host, verdict.value if verdict else None, user, code, tests)
    with keepers.store.reading() as connection:
        found = activity.list_activity(connection, wanted, cursor, limit)
    return Page(items=[activity.activity_of(row) for row in found.rows], next=found.next, total=found.total)
