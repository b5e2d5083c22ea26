"""One attempt in several places side by side."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from portero.core.nouns.base import Timestamp
from portero.core.nouns.compared import (
    AttemptAnywhere,
    EarlierCompared,
    FleetVerdicts,
    MachinesCompared,
    MachinesOfPerson,
)
from portero.service.auditing import asks, audited_router
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
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


@router.post("/compare/earlier", summary="Compare with earlier", operation_id="compareEarlier")
@asks
def compare_earlier(
    body: AttemptAnywhere,
    device: Machine,
    who: Signed,
    keepers: TheKeepers,
    then: Annotated[Timestamp | None, Query(description="A moment: with the revision and the facts of then.")] = None,
    revision: Annotated[
        int | None, Query(ge=0, le=2**53, description="Or an earlier revision, on the machine as it is now.")
    ] = None,
) -> EarlierCompared:
    """What a machine does about it now, what it would have done earlier, and what of the differences decides."""
    meant = _meant(who, keepers, body)
    if then is not None and revision is None:
        return keepers.side_by_side.now_and_then(meant, device, then)
    if revision is not None and then is None:
        return keepers.side_by_side.now_and_by_revision(meant, device, revision)
    raise Refusal("invalid", "Name a moment (then) or a revision, and not both.")
