"""The live stream of what changes."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator

from fastapi import Request
from sse_starlette import EventSourceResponse, ServerSentEvent
from starlette.concurrency import run_in_threadpool

from portero.service.auditing import audited_router
from portero.service.problems import Refusal
from portero.service.routes.common import Signed, TheKeepers, principal
from portero.service.secrets import hash_secret

router = audited_router("stream")


@router.get(
    "/stream",
    summary="Live stream",
    operation_id="stream",
    response_class=EventSourceResponse,
    responses={200: {"content": {"text/event-stream": {}}, "description": "Events `following` and `changed`."}},
)
async def stream(request: Request, who: Signed, keepers: TheKeepers) -> EventSourceResponse:
    """Server-sent events, as long as the session or token is good.

    The first is named `following`: of what changes after it, nothing is missed. Each `changed` lists the `subjects`
    that changed: revision, device, activity, finding, feed, push, errand.
    """

    credential = who.csrf_token or hash_secret(request.headers.get("authorization", ""))

    def may_read() -> bool:
        try:
            principal(request, keepers)
        except Refusal:
            return False
        return True

    async def still() -> bool:
        return await run_in_threadpool(may_read)

    async def events() -> AsyncIterator[ServerSentEvent]:
        async for subjects in keepers.live.changes(credential, still):
            event = "changed" if subjects else "following"
            yield ServerSentEvent(json.dumps({"subjects": subjects}), event=event)

    return EventSourceResponse(events(), ping=20)
