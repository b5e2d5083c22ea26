"""What a device is asked to do, and what came of it."""

from __future__ import annotations

from pydantic import ValidationError

from portero.core.nouns.errand import ErrandAnswer
from portero.service.wire.calls import Call, DeviceAnswer, json_answer, refuse_invalid


async def errands(call: Call) -> DeviceAnswer:
    """GET errands: what the device is to do now; each is given out once."""
    known = await call.device()
    taken = call.keepers.errands.take(known.id)
    return json_answer([{"id": one.id, **one.asked.model_dump(mode="json", exclude_none=True)} for one in taken])


async def answer_errand(call: Call) -> DeviceAnswer:
    """POST errands/ID: what came of one."""
    known = await call.device()
    try:
        answer = ErrandAnswer.model_validate_json(await call.body())
    except ValidationError as error:
        refuse_invalid(error)
    call.keepers.errands.answered(known.id, call.rest, answer)
    return DeviceAnswer(204)
