"""Runs: probe sets tried over the fleet, and what came of them."""

from __future__ import annotations

from typing import Annotated, cast

from fastapi import Path, Query, Response

from portero.core.nouns.finding import DeviceName
from portero.core.nouns.observation import Observation
from portero.core.nouns.page import Page
from portero.core.nouns.probe_case import ProbeCase
from portero.core.nouns.run import NewRun, ProbedRules, Run, RunSummary
from portero.core.sentences import runs as words
from portero.service.auditing import acts, audited_router
from portero.service.routes.common import (
    Cursor,
    Limit,
    Responder,
    Signed,
    TheKeepers,
    gives,
    not_permitted,
    offset_page,
)

router = audited_router("verification")
WAIT_SECONDS = 20.0

RunNumber = Annotated[int, Path(ge=1, le=2**53)]
Place = Annotated[int, Path(ge=1, le=2**53, description="The probe's place in its set.")]
Wait = Annotated[float, Query(ge=0, le=WAIT_SECONDS, description="Answer once it has ended, or after so many seconds.")]


@router.post("/runs", summary="Start a run", operation_id="createRun", status_code=201)
def create_run(body: NewRun, who: Responder, keepers: TheKeepers, response: Response, wait: Wait = 0) -> Run:
    """Try probe sets over the fleet, or a part of it: what each machine would do, with the code that decides there; or,
    `observed`, what machines see that are asked to try it now.
    """
    if (body.visit is not None or body.pictures) and not who.probes_freely:
        lack = f"{who.name} runs the probe sets that are kept, and may not probe freely"
        raise not_permitted(keepers, "the right to have machines try any address, and to take pictures", lack)
    keeper = keepers.observing if body.kind == "observed" else keepers.verifying
    run = keeper.start(body, who.name)
    response.headers["Location"] = f"/api/v1/runs/{run.id}"
    return keepers.runs.wait(run.id, wait)


@router.get("/runs", summary="List runs", operation_id="listRuns")
def list_runs(_who: Signed, keepers: TheKeepers, cursor: Cursor = None, limit: Limit = 50) -> Page[RunSummary]:
    """The runs that are kept, the newest first."""
    return keepers.runs.page(cursor, limit)


@router.get("/runs/probed-rules", summary="Rules that no probe has met", operation_id="listUnprobedRules")
def list_unprobed_rules(
    _who: Signed,
    keepers: TheKeepers,
    days: Annotated[int, Query(ge=1, le=365, description="So far back runs count.")] = 30,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> ProbedRules:
    """How many rules in force have settled a probe of late, and those that have not."""
    rules, unprobed = keepers.runs.unprobed(days)
    page = offset_page(unprobed, cursor, limit)
    probed = rules - len(unprobed)
    return ProbedRules(
        days=days,
        rules=rules,
        probed=probed,
        items=tuple(page.items),
        next=page.next,
        total=page.total,
        sentence=words.probed(rules, probed, days),
    )


@router.get("/runs/{id}", summary="Show a run", operation_id="getRun")
def get_run(id: RunNumber, _who: Signed, keepers: TheKeepers, wait: Wait = 0) -> Run:
    """One run, with what came of each probe; while it is under way, how far it is."""
    return keepers.runs.wait(id, wait)


@router.get("/runs/{id}/devices", summary="Machines of a run", operation_id="listRunDevices")
def list_run_devices(
    id: RunNumber,
    _who: Signed,
    keepers: TheKeepers,
    set: Annotated[str, Query(max_length=64, description="Key of the probe set.")],
    number: Annotated[int, Query(ge=1, le=2**53, description="The probe's place in it.")],
    cause: Annotated[str, Query(max_length=64, description="The code of the cause.")],
    cursor: Cursor = None,
    limit: Limit = 200,
) -> Page[DeviceName]:
    """The machines on which a probe did not come out as expected for a cause, by hostname."""
    return offset_page(keepers.runs.devices(id, set, number, cause), cursor, limit)


@router.get("/runs/{id}/observations", summary="What machines saw in a run", operation_id="listObservations")
def list_observations(
    id: RunNumber,
    _who: Signed,
    keepers: TheKeepers,
    set: Annotated[str | None, Query(max_length=64, description="Only of this probe set.")] = None,
    number: Annotated[int | None, Query(ge=1, le=2**53, description="Only of the probe at this place in it.")] = None,
    agrees: Annotated[bool | None, Query(description="Only what was seen as predicted, or otherwise.")] = None,
    cursor: Cursor = None,
    limit: Limit = 200,
) -> Page[Observation]:
    """What each machine saw of each probe in an observed run, beside what was predicted of it at that moment."""
    return keepers.observations.page(id, set, number, agrees, cursor, limit)


@router.get(
    "/runs/{id}/observations/{device}/{set}/{number}/case",
    summary="Take a case along",
    operation_id="getProbeCase",
)
def get_case(id: RunNumber, device: str, set: str, number: Place, _who: Responder, keepers: TheKeepers) -> ProbeCase:
    """What a machine saw otherwise than predicted, and all that the prediction was made of: by it `check replay`
    decides it again with no service.
    """
    data = keepers.observations.case(id, device, set, number)
    # as it was written: it may be large
    return cast("ProbeCase", Response(data, media_type="application/json"))


@router.get(
    "/runs/{id}/observations/{device}/{set}/{number}/picture",
    summary="A picture of what a machine saw",
    operation_id="getObservationPicture",
    response_class=Response,
    responses=gives("image/png"),
)
@acts
def get_picture(id: RunNumber, device: str, set: str, number: Place, _who: Responder, keepers: TheKeepers) -> Response:
    """The page as the machine saw it, a PNG. It is kept for 30 days; who looks at it is in the audit trail."""
    return Response(keepers.observations.picture(id, device, set, number), media_type="image/png")


@router.get("/devices/{device}/observations", summary="What a machine saw", operation_id="listDeviceObservations")
def list_device_observations(device: str, _who: Signed, keepers: TheKeepers) -> list[Observation]:
    """What a machine saw last of each probe that it really tried, beside what was predicted then; the newest first."""
    return keepers.observations.of_device(device)
