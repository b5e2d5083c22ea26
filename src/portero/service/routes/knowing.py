"""Questions: the taxonomy, a host's categories, the verdict on an attempt, activity, and the live stream."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator
from typing import Annotated, Any

from fastapi import APIRouter, Query
from pydantic import BaseModel, Field
from sse_starlette import EventSourceResponse, ServerSentEvent

from portero.core.insight.batches import judge_value
from portero.core.nouns.action import Verdict
from portero.core.nouns.activity import Activity
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.lookup import HostLookup
from portero.core.nouns.page import Page
from portero.core.nouns.taxonomy import Taxonomy
from portero.core.nouns.verdict import Explanation, Unjudged
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.service import lookup
from portero.service.routes.common import Cursor, Limit, Signed, TheDesk
from portero.store import activities
from portero.store.activities import ActivityFilter

router = APIRouter()


@router.get("/taxonomy", summary="The web taxonomy", operation_id="getTaxonomy", tags=["categories"])
def get_taxonomy(_who: Signed) -> Taxonomy:
    """Families of web categories, each with its definition and its reserved test host."""
    return TAXONOMY


@router.get("/categories/lookup", summary="Look a host up", operation_id="lookUp", tags=["categories"])
def look_up_host(
    _who: Signed,
    desk: TheDesk,
    url: Annotated[str, Query(min_length=1, max_length=8192, description="A host or a URL.")],
) -> HostLookup:
    """All that is known of a host or URL: its categories and who says so, where it was seen, which rules touch it."""
    return lookup.look_up_host(desk, url)


LeftAside = Annotated[bool, Query(description="With the rules that would match and do not count now.")]


@router.post("/check", summary="Check an attempt", operation_id="check", tags=["check"])
def check(body: Attempt, _who: Signed, desk: TheDesk, left_aside: LeftAside = False) -> Explanation:
    """The verdict on a visit or a start: intended by the estate, effective on the machine, with every reason and
    caveat.
    """
    return desk.explain(body, left_aside)


class Batch(BaseModel):
    """Many attempts."""

    attempts: Annotated[list[dict[str, Any]], Field(max_length=1000)]


@router.post("/check/batch", summary="Check many attempts", operation_id="checkBatch", tags=["check"])
def check_batch(body: Batch, _who: Signed, desk: TheDesk) -> list[Explanation | Unjudged]:
    """The verdicts on many attempts, in their order. One that cannot be judged has a problem in its place."""
    judge = desk.judging_many()
    return [judge_value(value, judge) for value in body.attempts]


@router.get("/activity", summary="List activity", operation_id="listActivity", tags=["activity"])
def list_activity(
    _who: Signed,
    desk: TheDesk,
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
    id = desk.device(device).id if device else None
    code = reference.strip().upper() if reference else None
    wanted = ActivityFilter(id, host, verdict.value if verdict else None, user, code, tests)
    with desk.store.reading() as connection:
        found = activities.list_activity(connection, wanted, cursor, limit)
    return Page(items=[activities.activity_of(row) for row in found.rows], next=found.next, total=found.total)


@router.get(
    "/stream",
    summary="Live stream",
    operation_id="stream",
    tags=["stream"],
    response_class=EventSourceResponse,
    responses={200: {"content": {"text/event-stream": {}}, "description": "Server-sent events named `changed`."}},
)
async def stream(_who: Signed, desk: TheDesk) -> EventSourceResponse:
    """Server-sent events. Each `changed` event lists the subjects that changed: revision, device, activity."""

    async def events() -> AsyncIterator[ServerSentEvent]:
        yield ServerSentEvent("{}", event="open")
        async for subjects in desk.live.changes():
            yield ServerSentEvent(json.dumps({"subjects": subjects}), event="changed")

    return EventSourceResponse(events(), ping=20)
