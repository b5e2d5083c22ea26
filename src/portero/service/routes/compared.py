"""One attempt in several places side by side."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from portero.core.nouns.compared import (
    AttemptAnywhere,
    FleetVerdicts,
    MachinesCompared,
    MachinesOfPerson,
    RevisionsCompared,
)
from portero.service.auditing import asks, audited_router
from portero.service.keepers import Keepers
from portero.service.routes.checks import as_meant
from portero.service.routes.common import Signed, TheKeepers
from portero.store.access import Principal

router = audited_router("check")
Machine = Annotated[str, Query(max_length=253, description="Hostname, or permanent id, of a machine.")]


def _meant(who: Principal, keepers: Keepers, tried: AttemptAnywhere) -> AttemptAnywhere:
    return tried.model_copy(update={"user": as_meant(who, keepers, tried.on("any-machine")).user})


@router.post("/compare/groups", summary="Compare all groups", operation_id="compareGroups")
@asks
def compare_groups(body: AttemptAnywhere, who: Signed, keepers: TheKeepers) -> FleetVerdicts:
    """What all machines would do about a visit or a start, group by group, the strongest first."""
    return keepers.side_by_side.over_groups(_meant(who, keepers, body))


@router.post("/compare/machines", summary="Compare two machines", operation_id="compareMachines")
@asks
def compare_machines(
    body: AttemptAnywhere, first: Machine, second: Machine, who: Signed, keepers: TheKeepers
) -> MachinesCompared:
    """What two machines would do, in what they differ, and what of that decides."""
    return keepers.side_by_side.two_machines(_meant(who, keepers, body), first, second)


@router.post("/compare/person", summary="Compare a person's machines", operation_id="comparePerson")
@asks
def compare_person(body: AttemptAnywhere, who: Signed, keepers: TheKeepers) -> MachinesOfPerson:
    """What the machines on which a person is signed in would do about it."""
    meant = _meant(who, keepers, body)
    found = keepers.side_by_side.machines_of(meant)
    if not who.sees_names and meant.user == body.user:
        # trying names would tell where somebody is
        found = found.model_copy(update={"items": ()})
    return found.model_copy(update={"user": body.user})


@router.post("/compare/revision", summary="Compare with an earlier revision", operation_id="compareWithRevision")
@asks
def compare_revision(
    body: AttemptAnywhere,
    device: Machine,
    revision: Annotated[int, Query(ge=0, description="The earlier one.")],
    who: Signed,
    keepers: TheKeepers,
) -> RevisionsCompared:
    """What the estate means of it on a machine now, and meant at an earlier revision, on the machine as it is."""
    return keepers.side_by_side.now_and_earlier(_meant(who, keepers, body), device, revision)
