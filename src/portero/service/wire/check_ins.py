"""Check-ins, and the requests that are held in between."""

from __future__ import annotations

import re
import sqlite3
from dataclasses import replace
from functools import partial
from typing import Annotated, Any

import msgspec
from pydantic import ValidationError

from portero.core import wording
from portero.core.nouns.base import MOST_NUMBERED
from portero.core.nouns.check_in import CHECK_IN_HEADER, ERRANDS_HEADER, PROBES_HEADER, PROGRAMS_HEADER
from portero.core.nouns.device import Facts
from portero.core.resolving.documents import DOCUMENT_FORMAT
from portero.formats.manifests import MANIFEST_FORMAT
from portero.formats.program_lists import OtherBase, ProgramsTold, patched
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.register import Registered
from portero.service.roster import Assessment
from portero.service.wire.calls import Call, DeviceAnswer, Headers, json_answer, refuse_invalid
from portero.service.wire.joining import facts_of
from portero.store import devices
from portero.store.devices import Applied

FIRST_HOLD, MOST_HOLD = 25.0, 55.0
"""How long a held request waits for news, where the device does not say, and at the most."""
RHYTHM_WEIGHT = 0.3
"""How much the newest interval counts in a device's usual one."""

Digest = Annotated[str, msgspec.Meta(max_length=80)]
Number = Annotated[int, msgspec.Meta(ge=0, le=MOST_NUMBERED)]
Formats = Annotated[tuple[Number, ...], msgspec.Meta(max_length=20)]


class CheckIn(msgspec.Struct, forbid_unknown_fields=True):
    """A device checks in: what it holds, which manifests and bundles it reads, its facts and programs where they
    changed, why applying failed, whether it was woken. An `index` that is empty says that it can use none.
    """

    have: Digest | None = None
    index: Digest | None = None
    revision: Number | None = None
    epoch: Number = 0
    manifests: Formats = (1,)
    bundles: Formats = (1, 2)
    facts: dict[str, Any] | None = None
    programs: ProgramsTold | None = None
    problem: Annotated[str, msgspec.Meta(max_length=2_000)] | None = None
    woken: bool = False

    @property
    def reads_newest(self) -> bool:
        """Whether the device reads all in its newest form."""
        return DOCUMENT_FORMAT in self.bundles and MANIFEST_FORMAT in self.manifests


_SECONDS = re.compile(r"\d{1,4}(\.\d{1,6})?")
_CHECK_IN = msgspec.json.Decoder(CheckIn)
_NOTHING_NEW = DeviceAnswer(204, is_news=False)


# --- what a device says ---


def _usual(known: Registered, message: CheckIn, now: float) -> float | None:
    """The device's usual interval, by its own rhythm.

    What the service asked for does not count, nor does a start (when facts are told): the machine was off before.
    """
    gap, before = now - known.last_heard, known.usual_interval
    if message.woken or message.facts is not None or gap < 1.0:
        return before
    return gap if before is None else (1 - RHYTHM_WEIGHT) * before + RHYTHM_WEIGHT * gap


def _has_applied(known: Registered, message: CheckIn) -> bool:
    """Whether the device says that it has applied something else than it said before."""
    device = known.device
    applied = (device.applied_bundle, device.applied_epoch, device.applied_revision)
    return bool(message.have) and (message.have, message.epoch, message.revision) != applied


def _has_other_index(known: Registered, message: CheckIn) -> bool:
    return message.index is not None and message.index != known.device.applied_index


def _says_something(known: Registered, message: CheckIn) -> bool:
    """Whether there is more to note than that the device was heard of."""
    told = message.facts is not None or message.programs or message.problem or known.device.told_silent
    return bool(told) or _has_applied(known, message) or _has_other_index(known, message)


def _told_facts(connection: sqlite3.Connection, known: Registered, message: CheckIn) -> Facts | None:
    """The device's facts as they are now, where it tells something of them. Programs that it does not tell of are
    those of before. OtherBase, Refusal.
    """
    told = facts_of(message.facts) if message.facts is not None else None
    if message.programs is None and (told is None or "applications" in told.model_fields_set):
        return told
    held = devices.facts_of(connection, known.id)
    try:
        programs = patched(held.applications, message.programs) if message.programs else held.applications
    except ValidationError as error:
        refuse_invalid(error, ("programs", "new"))
    except OtherBase:
        raise
    except ValueError as problem:
        raise Refusal("invalid", wording.as_sentence(str(problem))) from problem
    return (told or held).model_copy(update={"applications": programs})


def _hear(keepers: Keepers, known: Registered, message: CheckIn, asked: float) -> None:
    """Take note that the device is there: it waits for nobody who changes something."""
    now = keepers.now()
    known.last_heard, known.usual_interval = now, _usual(known, message, now)
    keepers.heard.note(known.id, now, known.usual_interval, asked)


def _note(keepers: Keepers, known: Registered, message: CheckIn, asked: float, assessment: Assessment) -> bool:
    """Note all that the device says; whether it is something for those who look at devices. OtherBase, Refusal."""
    now, device, connection = keepers.now(), known.device, assessment.connection
    facts = _told_facts(connection, known, message)
    usual = _usual(known, message, now)
    keepers.heard.note_with(connection, known.id, now, usual, asked)
    known.last_heard, known.usual_interval = now, usual
    if facts is not None:
        devices.note_facts(connection, known.id, facts, now)
        assessment.assess_namesakes(facts.hostname)
    if device.told_silent:
        devices.note_not_silent(connection, known.id)
    if facts is not None or device.told_silent:
        assessment.assess(known.id)
    if message.have and _has_applied(known, message):
        age = (message.epoch, message.revision or 0)
        devices.note_applied(connection, known.id, message.have, age, now)
        keepers.checks.note_until_restart(connection, known.id, message.have, now)
    if message.problem:
        devices.note_failed(connection, known.id, message.problem[:500], now)
    if message.index is not None and _has_other_index(known, message):
        devices.note_index(connection, known.id, message.index)
    return bool(facts is not None or device.told_silent or message.have != device.applied_bundle or message.problem)


# --- what it is answered ---


def _to_have(keepers: Keepers, known: Registered, message: CheckIn) -> dict[str, Any] | None:
    """What the device should have, where it is not what it says that it has."""
    wanted = keepers.register.wanted(known)
    same_index = message.index is None or message.index == keepers.holdings.index_in_force.digest
    if same_index and message.have == wanted.digest and message.revision == wanted.revision:
        return None
    return {"manifest": wanted.manifest, "bundle": wanted.digest, "revision": wanted.revision}


def _in_older_form(keepers: Keepers, told: dict[str, Any], message: CheckIn) -> dict[str, Any]:
    """What a device should have, as it reads it."""
    manifest, bundle = told["manifest"], told["bundle"]
    if DOCUMENT_FORMAT not in message.bundles:
        manifest, bundle = keepers.older_forms.manifest(manifest), keepers.older_forms.of(bundle).name
    return {**told, "manifest": keepers.publisher.readable(manifest, message.manifests), "bundle": bundle}


def _newer(keepers: Keepers, known: Registered, message: CheckIn) -> CheckIn:
    """The message of a device that reads no parts, with what it has for the service."""
    keepers.older_forms.of(keepers.register.wanted(known).digest)
    return msgspec.structs.replace(message, have=keepers.older_forms.newer_name(message.have))


def _has_only_applied(keepers: Keepers, known: Registered, message: CheckIn) -> bool:
    """Whether the device says no more than that it has applied something: so do all of them after a change."""
    more = message.facts is not None or message.programs or message.problem or known.device.told_silent
    return not more and not _has_other_index(known, message) and not keepers.checks.some_end_at_restarts


async def _noted_applied(call: Call, known: Registered, message: CheckIn, asked: float) -> None:
    """Note that the device has applied something, with all others that say so now."""
    now = call.keepers.now()
    known.last_heard, known.usual_interval = now, _usual(known, message, now)
    told = (message.have or "", message.epoch, message.revision or 0)
    await call.note_applied(Applied(known.id, *told, known.usual_interval, asked))


def _remember(known: Registered, message: CheckIn) -> None:
    """What the device has said is so in memory too."""
    told: dict[str, Any] = {}
    if message.have:
        told |= {"applied_bundle": message.have, "applied_epoch": message.epoch, "applied_revision": message.revision}
    if message.index is not None:
        told["applied_index"] = message.index
    known.device = replace(known.device, **told)


async def _noted(call: Call, known: Registered, message: CheckIn, asked: float) -> tuple[Registered, bool]:
    """The device once all that it says is noted; and whether its programs are to be told whole. Refusal."""
    keepers, told_whole = call.keepers, False
    if _has_only_applied(keepers, known, message):
        await _noted_applied(call, known, message, asked)
        _remember(known, message)
        keepers.live.tell("device")
        return await call.device(), told_whole
    try:
        concerns = await call.note(partial(_note, keepers, known, message, asked))
    except OtherBase:
        # all else that it says is noted
        rest, told_whole = msgspec.structs.replace(message, programs=None), True
        concerns = await call.note(partial(_note, keepers, known, rest, asked))
    _remember(known, message)
    if concerns:
        keepers.live.tell("device")
    # it may have been given other groups
    return await call.device(), told_whole


async def check_in(call: Call) -> DeviceAnswer:
    """POST check-in: 204 where there is nothing new, else the signed manifest of the bundle to have."""
    known, keepers = await call.device(), call.keepers
    message = await call.message(_CHECK_IN)
    asked = keepers.fleet.check_in_seconds(known.id)
    headers: Headers = [(CHECK_IN_HEADER.lower().encode(), b"%d" % asked)]
    if DOCUMENT_FORMAT not in message.bundles and message.have:
        message = await call.looking(_newer, keepers, known, message)
    if _says_something(known, message):
        known, told_whole = await _noted(call, known, message, asked)
        if told_whole:
            headers.append((PROGRAMS_HEADER.lower().encode(), b"whole"))
    else:
        _hear(keepers, known, message, asked)
    told = _to_have(keepers, known, message)
    if keepers.pushes.concern(known.id):
        await call.looking(keepers.pushes.answered, known.id, told is None, message.problem)
    if told is not None and not message.reads_newest:
        told = await call.looking(_in_older_form, keepers, told, message)
    asked_more = False
    for header, asking in ((ERRANDS_HEADER, keepers.errands), (PROBES_HEADER, keepers.observing)):
        if asking.awaits(known.id, again=True):
            headers.append((header.lower().encode(), b"yes"))
            asked_more = True
    if told is None and not asked_more:
        return _NOTHING_NEW._replace(headers=headers)
    return json_answer(told, headers=headers) if told else DeviceAnswer(204, headers=headers)


async def wait(call: Call) -> DeviceAnswer:
    """GET wait?have=DIGEST&index=DIGEST&hold=SECONDS: held until there is something for the device (200), or for a
    while (204).
    """
    known, keepers = await call.device(), call.keepers
    have, index = call.query.get("have"), call.query.get("index")
    with keepers.live.device_waits(known.id, known.device.class_id) as news:
        # registered first, looked second: a bundle made in between is not missed
        known = await call.device()
        same = keepers.older_forms.newer_name(have) == keepers.register.wanted(known).digest
        if keepers.pushes.awaits(known.id):
            await call.looking(keepers.pushes.told, known.id)
        elif (
            same
            and index in (None, keepers.holdings.index_in_force.digest)
            and not keepers.errands.awaits(known.id)
            and not keepers.observing.awaits(known.id)
            and not keepers.live.closing
        ):
            if not await news.within(_hold(call)):
                return _NOTHING_NEW
            keepers.errands.awaits(known.id)
            keepers.observing.awaits(known.id)
    # of many that are woken at once each takes its time, so that they do not come at once
    return json_answer({"news": True, "spread": round(news.spread, 1)})


def _hold(call: Call) -> float:
    """For how long the device lets the request be held. Refusal."""
    told = call.query.get("hold")
    if told is None:
        return FIRST_HOLD
    if not _SECONDS.fullmatch(told):
        raise Refusal("bad-request", "hold: say for how many seconds, as in 55.")
    return min(max(float(told), 1.0), MOST_HOLD)
