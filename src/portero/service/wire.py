"""`/device/v1`: what endpoints speak. Plain Starlette routes, as there are many devices and few messages.

The messages are described in docs/reference/wire.md.
"""

from __future__ import annotations

import asyncio
import json
import sqlite3
from collections.abc import Awaitable, Callable
from functools import partial
from typing import Annotated, Any, NoReturn

import msgspec
from anyio import to_thread
from pydantic import ValidationError
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import FileResponse, JSONResponse, Response
from starlette.routing import Route

from portero.core import wording
from portero.core.nouns.activity import ActivityBatch
from portero.core.nouns.base import MOST_NUMBERED
from portero.core.nouns.check_in import CHECK_IN_HEADER, ERRANDS_HEADER, PROGRAMS_HEADER
from portero.core.nouns.device import Facts
from portero.core.nouns.errand import ErrandAnswer
from portero.core.nouns.faults import fault_of
from portero.formats.program_lists import OtherBase, ProgramsTold, patched
from portero.service.guessing import code_guessers, too_many
from portero.service.keepers import Keepers
from portero.service.problems import Refusal, field_error
from portero.service.secrets import hash_secret
from portero.store import activity, classes, devices, overlays
from portero.store.devices import KnownDevice, Wanted

HOLD_SECONDS = 25.0
"""How long a held request waits for news before it answers that there is none."""
NOTING_THREADS = 16
"""So many devices may be noted, or wait for that, at once."""
RHYTHM_WEIGHT = 0.3
"""How much the newest interval counts in a device's usual one."""


Digest = Annotated[str, msgspec.Meta(max_length=80)]
Number = Annotated[int, msgspec.Meta(ge=0, le=MOST_NUMBERED)]


class Join(msgspec.Struct, forbid_unknown_fields=True):
    """A device joins: its enrolment code and its facts."""

    code: Annotated[str, msgspec.Meta(max_length=100)]
    facts: dict[str, Any]


class CheckIn(msgspec.Struct, forbid_unknown_fields=True):
    """A device checks in: what it holds, which manifests it reads, its facts and programs where they changed, why
    applying failed, whether it was woken. An `index` that is empty says that it can use none.
    """

    have: Digest | None = None
    index: Digest | None = None
    revision: Number | None = None
    epoch: Number = 0
    manifests: Annotated[tuple[Number, ...], msgspec.Meta(max_length=20)] = (1,)
    facts: dict[str, Any] | None = None
    programs: ProgramsTold | None = None
    problem: Annotated[str, msgspec.Meta(max_length=2_000)] | None = None
    woken: bool = False


async def _message(request: Request, type: type[Any]) -> Any:
    try:
        return msgspec.json.decode(await request.body(), type=type)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as problem:
        raise Refusal("bad-request", f"The body does not read as a {type.__name__} message: {problem}.") from problem


def _refuse_invalid(error: ValidationError, prefix: tuple[str, ...]) -> NoReturn:
    errors = [field_error((*prefix, *fault["loc"]), fault_of(fault)) for fault in error.errors()]
    raise Refusal("invalid", f"{errors[0]['pointer']}: {errors[0]['detail']}.", errors=errors[:50]) from error


def _facts(value: dict[str, Any]) -> Facts:
    try:
        return Facts.model_validate_json(json.dumps(value))
    except ValidationError as error:
        _refuse_invalid(error, ("facts",))


def _device(keepers: Keepers, request: Request) -> KnownDevice:
    scheme, _, credential = request.headers.get("authorization", "").partition(" ")
    known = None
    if scheme.lower() == "bearer" and credential:
        with keepers.store.reading() as connection:
            known = devices.by_credential(connection, hash_secret(credential.strip()))
    if known is None:
        detail = "This device credential is not good (any more); join again with an enrolment code."
        raise Refusal("not-signed-in", detail, headers={"WWW-Authenticate": "Bearer"})
    return known


def _join(keepers: Keepers, message: Join, address: str) -> dict[str, Any]:
    facts = _facts(message.facts)
    joined = keepers.enrolment.join(message.code, facts)
    if joined is None:
        # a right code is always taken: many machines may share an address with one that guesses
        guessers = code_guessers(address)
        if (wait := keepers.guessing.wait(guessers)) > 0:
            raise too_many(wait, "Too many wrong codes")
        keepers.guessing.wrong(guessers)
        raise Refusal("not-allowed", "This enrolment code is wrong, used up or has run out; ask for a new one.")
    device, credential = joined
    return {
        "device": device,
        "credential": credential,
        "signing_key": keepers.public_key,
    }


def _usual(last_heard: float, before: float | None, message: CheckIn, now: float) -> float | None:
    """The device's usual interval, by its own rhythm.

    What the service asked for does not count, nor does a start (when facts are told): the machine was off before.
    """
    gap = now - last_heard
    if message.woken or message.facts is not None or gap < 1.0:
        return before
    return gap if before is None else (1 - RHYTHM_WEIGHT) * before + RHYTHM_WEIGHT * gap


def _check_in(keepers: Keepers, known: KnownDevice, message: CheckIn, asked: float) -> dict[str, Any] | None:
    now, heard = keepers.now(), keepers.fleet.heard
    usual = _usual(*heard.last(known.id, known.last_heard, known.usual_interval), message, now)
    if _says_something(known, message):
        wanted = _note(keepers, known, message, usual, now, asked)
    else:
        # it waits for nobody who changes something
        heard.note(known.id, now, usual, asked)
        with keepers.store.reading() as connection:
            wanted = devices.wanted_of(connection, known.id)
    answer = _to_have(keepers, wanted, message)
    keepers.pushes.answered(known.id, answer is None, message.problem)
    return answer


def _to_have(keepers: Keepers, wanted: Wanted, message: CheckIn) -> dict[str, Any] | None:
    """What the device should have, where it is not what it says that it has."""
    same_index = message.index is None or message.index == keepers.holdings.index_in_force.digest
    if same_index and message.have == wanted.digest and message.revision == wanted.revision:
        return None
    manifest = keepers.publisher.readable(wanted.manifest, message.manifests)
    return {"manifest": manifest, "bundle": wanted.digest, "revision": wanted.revision}


def _has_applied(known: KnownDevice, message: CheckIn) -> bool:
    """Whether the device says that it has applied something else than it said before."""
    applied = (known.applied_bundle, known.applied_epoch, known.applied_revision)
    return bool(message.have) and (message.have, message.epoch, message.revision) != applied


def _has_other_index(known: KnownDevice, message: CheckIn) -> bool:
    return message.index is not None and message.index != known.applied_index


def _says_something(known: KnownDevice, message: CheckIn) -> bool:
    """Whether there is more to note than that the device was heard of."""
    told = bool(message.facts is not None or message.programs or message.problem or known.told_silent)
    return told or _has_applied(known, message) or _has_other_index(known, message)


def _told_facts(connection: sqlite3.Connection, known: KnownDevice, message: CheckIn) -> Facts | None:
    """The device's facts as they are now, where it tells something of them. Programs that it does not tell of are
    those of before. OtherBase, Refusal.
    """
    told = _facts(message.facts) if message.facts is not None else None
    if message.programs is None and (told is None or "applications" in told.model_fields_set):
        return told
    held = devices.facts_of(connection, known.id)
    try:
        programs = patched(held.applications, message.programs) if message.programs else held.applications
    except ValidationError as error:
        _refuse_invalid(error, ("programs", "new"))
    except OtherBase:
        raise
    except ValueError as problem:
        raise Refusal("invalid", wording.as_sentence(str(problem))) from problem
    return (told or held).model_copy(update={"applications": programs})


def _note(
    keepers: Keepers, known: KnownDevice, message: CheckIn, usual: float | None, now: float, asked: float
) -> Wanted:
    """Note all that the device says; what it should have then."""
    with keepers.fleet.assessing() as assessment:
        connection = assessment.connection
        facts = _told_facts(connection, known, message)
        keepers.fleet.heard.note_with(connection, known.id, now, usual, asked)
        if facts is not None:
            devices.note_facts(connection, known.id, facts, now)
            assessment.assess_namesakes(facts.hostname)
        if facts is not None or known.told_silent:
            assessment.assess(known.id)
        if message.have and _has_applied(known, message):
            age = (message.epoch, message.revision or 0)
            devices.note_applied(connection, known.id, message.have, age, now)
            keepers.checks.note_until_restart(connection, known.id, message.have, now)
        if message.problem:
            devices.note_failed(connection, known.id, message.problem[:500], now)
        if message.index is not None and _has_other_index(known, message):
            devices.note_index(connection, known.id, message.index)
        wanted = devices.wanted_of(connection, known.id)
    if facts is not None or known.told_silent or message.have != known.applied_bundle or message.problem:
        keepers.live.tell("device")
    return wanted


def _keep(keepers: Keepers, known: KnownDevice, body: bytes) -> dict[str, Any]:
    try:
        batch = ActivityBatch.model_validate_json(body)
    except ValidationError as error:
        _refuse_invalid(error, ())
    with keepers.store.writing() as connection:
        new, dropped = activity.keep_batch(connection, known.id, batch, keepers.now(), known.seq_offset)
    if new:
        keepers.live.tell("activity")
    return {"batch": batch.batch, "new": new, "dropped": dropped}


def _immutable(request: Request, digest: str, body: bytes, media_type: str) -> Response:
    headers = {"ETag": f'"{digest}"', "Cache-Control": "private, max-age=31536000, immutable"}
    if request.headers.get("if-none-match") == headers["ETag"]:
        return Response(status_code=304, headers=headers)
    return Response(body, media_type=media_type, headers=headers)


def _endpoint(handler: Callable[[Request, Keepers], Awaitable[Response]]) -> Callable[[Request], Awaitable[Response]]:
    async def endpoint(request: Request) -> Response:
        try:
            return await handler(request, request.app.state.keepers)
        except Refusal as problem:
            return problem.response()

    return endpoint


async def _noting(request: Request, call: Callable[..., Any], *arguments: Any) -> Any:
    """Run what may have to wait for who writes, in threads of its own: who has nothing to note finds one free."""
    return await to_thread.run_sync(partial(call, *arguments), limiter=request.app.state.noting)


async def join(request: Request, keepers: Keepers) -> Response:
    """POST /device/v1/join: take a use of an enrolment code; gives the device its id, credential and signing key."""
    message = await _message(request, Join)
    address = request.client.host if request.client else ""
    return JSONResponse(await _noting(request, _join, keepers, message, address), 201)


async def check_in(request: Request, keepers: Keepers) -> Response:
    """POST /device/v1/check-in: 204 where there is nothing new, else the signed manifest of the bundle to have."""
    known = await run_in_threadpool(_device, keepers, request)
    message = await _message(request, CheckIn)
    asked = keepers.fleet.check_in_seconds(known.id)
    headers = {CHECK_IN_HEADER: str(asked)}
    if _says_something(known, message):
        try:
            answer = await _noting(request, _check_in, keepers, known, message, asked)
        except OtherBase:
            # all else that it says is noted; its programs it tells whole the next time
            headers[PROGRAMS_HEADER] = "whole"
            rest = msgspec.structs.replace(message, programs=None)
            answer = await _noting(request, _check_in, keepers, known, rest, asked)
    else:
        answer = await run_in_threadpool(_check_in, keepers, known, message, asked)
    if keepers.errands.awaits(known.id, again=True):
        headers[ERRANDS_HEADER] = "yes"
    return JSONResponse(answer, headers=headers) if answer else Response(status_code=204, headers=headers)


async def wait(request: Request, keepers: Keepers) -> Response:
    """GET /device/v1/wait?revision=N: held until the device's class gets another bundle (200), or for a while (204)."""
    known = await run_in_threadpool(_device, keepers, request)
    have, index = request.query_params.get("have"), request.query_params.get("index")
    with keepers.live.device_waits(known.id, known.class_id) as event:
        # registered first, looked second: a bundle made in between is not missed
        now_known = await run_in_threadpool(_device, keepers, request)
        same = now_known.digest == have and index in (None, keepers.holdings.index_in_force.digest)
        if keepers.pushes.awaits(known.id):
            await run_in_threadpool(keepers.pushes.told, known.id)
        elif same and not keepers.errands.awaits(known.id) and not keepers.live.closing:
            try:
                await asyncio.wait_for(event.wait(), HOLD_SECONDS)
            except TimeoutError:
                return Response(status_code=204)
            keepers.errands.awaits(known.id)
    return JSONResponse({"news": True})


async def bundle(request: Request, keepers: Keepers) -> Response:
    """GET /device/v1/bundle/{digest}?from=DIGEST: the device's own bundle, zstd-compressed; 304 where it has it.

    Where the service still has the bundle that the device comes from, it answers with the difference, and says so in
    `Portero-From`.
    """
    known, digest = await run_in_threadpool(_device, keepers, request), request.path_params["digest"]
    begin = request.query_params.get("from", "")

    def read() -> tuple[bytes | None, bytes | None]:
        with keepers.store.reading() as connection:
            packed = classes.get_bundle(connection, digest) if classes.may_have(connection, known.id, digest) else None
            # of bundles that were never its own, a device learns not even how far they are from its own
            known_here = packed is not None and classes.was_given(connection, known.id, begin)
        return packed, keepers.checks.difference(begin, digest) if known_here else None

    packed, difference = await run_in_threadpool(read)
    if packed is None:
        raise Refusal("not-found", "This device has no such bundle; check in to learn which it should have.")
    await run_in_threadpool(keepers.pushes.fetched, known.id)
    if difference is not None and len(difference) < len(packed):
        headers = {"Portero-From": begin, "Cache-Control": "private, max-age=31536000, immutable"}
        return Response(difference, media_type="application/zstd", headers=headers)
    return _immutable(request, digest, packed, "application/zstd")


async def overlay(request: Request, keepers: Keepers) -> Response:
    """GET /device/v1/overlay/{digest}: what the device gets on top of its bundle, zstd-compressed; 304 as above."""
    known, digest = await run_in_threadpool(_device, keepers, request), request.path_params["digest"]

    def read() -> tuple[bytes, str] | None:
        with keepers.store.reading() as connection:
            return overlays.get_overlay(connection, digest) if classes.may_have(connection, known.id, digest) else None

    found = await run_in_threadpool(read)
    if found is None:
        raise Refusal("not-found", "This device has no such overlay; check in to learn which it should have.")
    return _immutable(request, digest, found[0], "application/zstd")


async def user_groups(request: Request, keepers: Keepers) -> Response:
    """GET /device/v1/people?user=NAME: the user groups of a person seen on the device, of those that rules name."""
    await run_in_threadpool(_device, keepers, request)
    user = request.query_params.get("user", "")[:255]
    named = {
        key.casefold()
        for assignment in keepers.estate.snapshot.estate.assignments
        if assignment.people
        for key in assignment.people.user_groups
    }
    return JSONResponse({"user": user, "user_groups": sorted(keepers.people.user_groups(user) & named)})


async def index(request: Request, keepers: Keepers) -> Response:
    """GET /device/v1/index/{digest}: of which files the category index consists, as JSON; 304 where it is known."""
    await run_in_threadpool(_device, keepers, request)
    digest, kept = request.path_params["digest"], keepers.holdings.held.kept
    if digest != kept.digest:
        raise Refusal("not-found", "There is no such category index (any more); check in to learn which there is.")
    return _immutable(request, digest, kept.parts.written(), "application/json")


async def index_file(request: Request, keepers: Keepers) -> Response:
    """GET /device/v1/index-file/{digest}: one of its files; with `Range` what is missing of it (RFC 9110, 14)."""
    await run_in_threadpool(_device, keepers, request)
    digest = request.path_params["digest"]
    if digest not in {file.digest for file in keepers.holdings.held.kept.parts.files}:
        raise Refusal("not-found", "The category index has no such file (any more); check in to learn what it has.")
    headers = {"ETag": f'"{digest}"', "Cache-Control": "private, max-age=31536000, immutable"}
    return FileResponse(keepers.holdings.artefacts.path(digest), media_type="application/octet-stream", headers=headers)


async def take_activity(request: Request, keepers: Keepers) -> Response:
    """POST /device/v1/activity: a batch of attempts; one sent again counts once."""
    known = await run_in_threadpool(_device, keepers, request)
    return JSONResponse(await _noting(request, _keep, keepers, known, await request.body()))


async def errands(request: Request, keepers: Keepers) -> Response:
    """GET /device/v1/errands: what the device is to do now; each is given out once."""
    known = await run_in_threadpool(_device, keepers, request)
    taken = keepers.errands.take(known.id)
    return JSONResponse([{"id": one.id, **one.asked.model_dump(mode="json", exclude_none=True)} for one in taken])


async def answer_errand(request: Request, keepers: Keepers) -> Response:
    """POST /device/v1/errands/{errand}: what came of one."""
    known = await run_in_threadpool(_device, keepers, request)
    try:
        answer = ErrandAnswer.model_validate_json(await request.body())
    except ValidationError as error:
        _refuse_invalid(error, ())
    keepers.errands.answered(known.id, request.path_params["errand"], answer)
    return Response(status_code=204)


ROUTES = [
    Route("/device/v1/join", _endpoint(join), methods=["POST"]),
    Route("/device/v1/check-in", _endpoint(check_in), methods=["POST"]),
    Route("/device/v1/wait", _endpoint(wait), methods=["GET"]),
    Route("/device/v1/bundle/{digest}", _endpoint(bundle), methods=["GET"]),
    Route("/device/v1/overlay/{digest}", _endpoint(overlay), methods=["GET"]),
    Route("/device/v1/people", _endpoint(user_groups), methods=["GET"]),
    Route("/device/v1/index/{digest}", _endpoint(index), methods=["GET"]),
    Route("/device/v1/index-file/{digest}", _endpoint(index_file), methods=["GET"]),
    Route("/device/v1/errands", _endpoint(errands), methods=["GET"]),
    Route("/device/v1/errands/{errand}", _endpoint(answer_errand), methods=["POST"]),
    Route("/device/v1/activity", _endpoint(take_activity), methods=["POST"]),
]
