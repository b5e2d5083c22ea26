"""A machine joins."""

from __future__ import annotations

import json
from typing import Annotated, Any

import msgspec
from pydantic import ValidationError

from portero.core.nouns.device import Facts
from portero.service.guessing import code_guessers, too_many
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.wire.calls import Call, DeviceAnswer, json_answer, refuse_invalid


class Join(msgspec.Struct, forbid_unknown_fields=True):
    """A device joins: its enrolment code and its facts."""

    code: Annotated[str, msgspec.Meta(max_length=100)]
    facts: dict[str, Any]


_JOIN = msgspec.json.Decoder(Join)


def facts_of(value: dict[str, Any]) -> Facts:
    """Facts as a device tells them. Refusal."""
    try:
        return Facts.model_validate_json(json.dumps(value))
    except ValidationError as error:
        refuse_invalid(error, ("facts",))


def _join(keepers: Keepers, message: Join, address: str) -> dict[str, Any]:
    facts = facts_of(message.facts)
    joined = keepers.enrolment.join(message.code, facts)
    if joined is None:
        # a right code is always taken: many machines may share an address with one that guesses
        guessers = code_guessers(address)
        if (wait := keepers.guessing.wait(guessers)) > 0:
            raise too_many(wait, "Too many wrong codes")
        keepers.guessing.wrong(guessers)
        raise Refusal("not-allowed", "This enrolment code is wrong, used up or has run out; ask for a new one.")
    device, credential = joined
    return {"device": device, "credential": credential, "signing_key": keepers.public_key}


async def join(call: Call) -> DeviceAnswer:
    """POST join: take a use of an enrolment code; gives the device its id, credential and signing key."""
    message = await call.message(_JOIN)
    return json_answer(await call.looking(_join, call.keepers, message, call.address), 201)
