"""Assignments: of one ruleset, on one group, or of one change request where asked for."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from portero.core import sentences
from portero.core.nouns.assignment import Assignment, AssignmentSummary, NewAssignment
from portero.core.nouns.estate import NOUNS, Estate
from portero.service.keepers import Keepers
from portero.service.routes.nouns import NounRoutes, Sift, Tell
from portero.service.state import Snapshot
from portero.store import device_lists


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
    def tell(assignment: Assignment, version: int | None) -> AssignmentSummary:
        with keepers.store.reading() as connection:
            reached = device_lists.count_reached(connection, assignment.groups, assignment.named_devices)
        return AssignmentSummary(
            **assignment.model_dump(),
            sentence=sentences.assignment_sentence(assignment, snapshot.estate.ruleset_by_key[assignment.ruleset]),
            devices=reached,
            version=version or 0,
        )

    return tell


def _made(estate: Estate, body: NewAssignment) -> Assignment:
    """Without a key one is made of the ruleset and the first target."""
    taken = [] if body.key else [assignment.key for assignment in estate.assignments]
    return body.keyed(taken)


ROUTES = NounRoutes(NOUNS["assignment"], telling=_telling, sifting=_sifting, new=NewAssignment, made=_made)
