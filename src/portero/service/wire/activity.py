"""What happened on a device."""

from __future__ import annotations

from typing import Any

from pydantic import ValidationError

from portero.core.nouns.activity import ActivityBatch
from portero.service.keepers import Keepers
from portero.service.register import Registered
from portero.service.wire.calls import Call, DeviceAnswer, json_answer, refuse_invalid
from portero.store import activity


def _keep(keepers: Keepers, known: Registered, body: bytes) -> dict[str, Any]:
    try:
        batch = ActivityBatch.model_validate_json(body)
    except ValidationError as error:
        refuse_invalid(error)
    with keepers.store.writing() as connection:
        new, dropped = activity.keep_batch(connection, known.id, batch, keepers.now(), known.seq_offset)
    if new:
        keepers.live.tell("activity")
    return {"batch": batch.batch, "new": new, "dropped": dropped}


async def take_activity(call: Call) -> DeviceAnswer:
    """POST activity: a batch of attempts; one sent again counts once."""
    known = await call.device()
    return json_answer(await call.noting(_keep, call.keepers, known, await call.body()))
