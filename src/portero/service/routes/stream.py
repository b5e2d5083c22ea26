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
    responses={200: {"content": {"text/event-stream": {}}, "description": "Server-sent events named `changed`."}},
)
async def stream(_who: Signed, keepers: TheKeepers) -> EventSourceResponse:
    """Server-sent events. Each `changed` event lists the subjects that changed: revision, device, activity."""

    async def events() -> AsyncIterator[ServerSentEvent]:
        yield ServerSentEvent("{}", event="open")
        async for subjects in keepers.live.changes():
            yield ServerSentEvent(json.dumps({"subjects": subjects}), event="changed")

    return EventSourceResponse(events(), ping=20)
