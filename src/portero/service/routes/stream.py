"""The live stream of what changes."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator

from fastapi import APIRouter
from sse_starlette import EventSourceResponse, ServerSentEvent

from portero.service.routes.common import Signed, TheKeepers

router = APIRouter(tags=["stream"])


@router.get(
    "/stream",
    summary="Live stream",
    operation_id="stream",
    response_class=EventSourceResponse,
    responses={200: {"content": {"text/event-stream": {}}, "description": "Events `following` and `changed`."}},
)
async def stream(_who: Signed, keepers: TheKeepers) -> EventSourceResponse:
    """Server-sent events.

    The first is named `following`: of what changes after it, nothing is missed. Each `changed` lists the `subjects`
    that changed: revision, device, activity, finding, feed.
    """

    async def events() -> AsyncIterator[ServerSentEvent]:
        async for subjects in keepers.live.changes():
            event = "changed" if subjects else "following"
            yield ServerSentEvent(json.dumps({"subjects": subjects}), event=event)

    return EventSourceResponse(events(), ping=20)
