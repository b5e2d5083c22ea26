"""The people seen on a device."""

from __future__ import annotations

from portero.service.wire.calls import Call, DeviceAnswer, json_answer


async def user_groups(call: Call) -> DeviceAnswer:
    """GET people?user=NAME: the user groups of a person seen on the device, of those that rules name."""
    await call.device()
    user, keepers = call.query.get("user", "")[:255], call.keepers
    named = {
        key.casefold()
        for assignment in keepers.estate.snapshot.estate.assignments
        if assignment.people
        for key in assignment.people.user_groups
    }
    return json_answer({"user": user, "user_groups": sorted(keepers.people.user_groups(user) & named)})
