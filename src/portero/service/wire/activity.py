"""What happened on a device."""

from __future__ import annotations

from pydantic import ValidationError

from portero.core.nouns.activity import ActivityBatch
from portero.service.roster import Assessment
from portero.service.wire.calls import Call, DeviceAnswer, json_answer, refuse_invalid
from portero.store import activity


async def take_activity(call: Call) -> DeviceAnswer:
    """POST activity: a batch of attempts; one sent again counts once."""
    known, keepers = await call.device(), call.keepers
    try:
        batch = ActivityBatch.model_validate_json(await call.body())
    except ValidationError as error:
        refuse_invalid(error)

    def keep(assessment: Assessment) -> tuple[int, int]:
        return activity.keep_batch(assessment.connection, known.id, batch, keepers.now(), known.seq_offset)

    new, dropped = await call.note(keep)
    if new:
        keepers.live.tell("activity")
    return json_answer({"batch": batch.batch, "new": new, "dropped": dropped})
