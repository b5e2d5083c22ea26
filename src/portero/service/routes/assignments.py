"""Assignments: of one ruleset, on one group, or of one change request where asked for."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from fastapi import Query, Response

from portero.core import sentences
from portero.core.insight.merging import put_in_place
from portero.core.insight.newcomers import accepted
from portero.core.nouns.assignment import (
    AcceptedVersions,
    Assignment,
    AssignmentSummary,
    HeldBack,
    NewAssignment,
)
from portero.core.nouns.estate import NOUNS, Estate
from portero.core.nouns.preview import Preview
from portero.service.auditing import audited_router
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.common import Authoring, answered, tagged, the
from portero.service.routes.nouns import NounRoutes, Sift, Tell
from portero.service.state import Snapshot
from portero.store import device_lists
from portero.store.moments import moment

router = audited_router("assignments")


def _sifting(
    ruleset: Annotated[str | None, Query(max_length=64, description="Of this ruleset only.")] = None,
    group: Annotated[str | None, Query(max_length=64, description="On this group only.")] = None,
    ticket: Annotated[str | None, Query(max_length=255, description="Of this change request only.")] = None,
) -> Sift:
    def wanted(assignment: Assignment) -> bool:
        return (
            (ruleset is None or assignment.ruleset == ruleset)
            and (group is None or group in assignment.groups)
            and (ticket is None or assignment.ticket == ticket)
        )

    return wanted


def _telling(keepers: Keepers, snapshot: Snapshot) -> Tell:
    with keepers.store.reading() as connection:
        sizes = device_lists.class_sizes(connection)

    def tell(assignment: Assignment, version: int | None) -> AssignmentSummary:
        if assignment.named_devices:
            with keepers.store.reading() as connection:
                reached = device_lists.count_reached(connection, assignment.groups, assignment.named_devices)
        else:
            reached = sum(number for groups, number in sizes if not groups.isdisjoint(assignment.groups))
        return AssignmentSummary(
            **assignment.model_dump(),
            sentence=sentences.assignment_sentence(assignment, snapshot.estate.ruleset_by_key[assignment.ruleset]),
            held_back=_held_back(assignment, moment(keepers.now())),
            devices=reached,
            version=version or 0,
        )

    return tell


def _held_back(assignment: Assignment, now: datetime) -> tuple[HeldBack, ...]:
    if assignment.hold_back is None:
        return ()
    return tuple(
        HeldBack(
            program=one.program,
            name=sentences.member_words(one.program),
            at=one.at,
            until=one.at + assignment.hold_back,
            over=now >= one.at + assignment.hold_back,
        )
        for one in sorted(assignment.came, key=lambda one: one.at, reverse=True)
    )


def _made(estate: Estate, body: NewAssignment) -> Assignment:
    """Without a key one is made of the ruleset and the first target."""
    taken = [] if body.key else [assignment.key for assignment in estate.assignments]
    return body.keyed(taken)


ROUTES = NounRoutes(NOUNS["assignment"], telling=_telling, sifting=_sifting, new=NewAssignment, made=_made)


@router.post(
    "/assignments/{key}/accept",
    summary="Accept programs that came later",
    operation_id="acceptVersions",
    response_model=AssignmentSummary | Preview,
)
def accept_versions(key: str, body: AcceptedVersions, response: Response, change: Authoring) -> AssignmentSummary:
    """Have versions that came later stopped at once from now on, on servers too, as those are that were there before.

    They are known by what they are, so nobody else's change is lost.
    """

    def edit(snapshot: Snapshot) -> Estate:
        seen: Assignment = the(snapshot.estate.assignments, ROUTES.noun, key)
        known = [one.program for one in seen.came]
        for version in body.versions or ():
            if version not in known:
                told = sentences.member_words(version)
                raise Refusal("not-found", f"{told} is not among what came to “{key}” later.")
        after = put_in_place(accepted(seen, body.versions), snapshot.estate.assignments)
        return snapshot.estate.replacing(assignments=after)

    def shown(snapshot: Snapshot) -> AssignmentSummary:
        tagged(response, snapshot.version(ROUTES.noun.word, key))
        told: AssignmentSummary = ROUTES.tell_one(change.keepers, snapshot, key)
        return told

    return answered(change(edit), shown)
