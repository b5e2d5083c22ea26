"""What a device is asked to try, and what it saw."""

from __future__ import annotations

from pydantic import ValidationError

from portero.core.nouns.observation import ProbesSeen
from portero.service.wire.calls import Call, DeviceAnswer, json_answer, refuse_invalid


async def probes(call: Call) -> DeviceAnswer:
    """GET probes: the orders that the device is to try now; each is given out once."""
    known = await call.device()
    taken = call.keepers.observing.take(known.id)
    return json_answer([one.model_dump(mode="json", exclude_none=True) for one in taken])


async def probes_seen(call: Call) -> DeviceAnswer:
    """POST probes: what the device saw of an order, with its number."""
    known = await call.device()
    try:
        told = ProbesSeen.model_validate_json(await call.body())
    except ValidationError as error:
        refuse_invalid(error)
    await call.in_turn(call.keepers.observing.answered, known.id, told)
    return DeviceAnswer(204)
