"""Rulesets and assignments."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query, Response

from portero.core import sentences
from portero.core.nouns.assignment import Assignment, AssignmentSummary, NewAssignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.page import Page
from portero.core.nouns.ruleset import Ruleset, RulesetState, RulesetSummary, Sentence
from portero.service.desk import Desk
from portero.service.problems import Problem
from portero.service.routes.common import (
    Authoring,
    Cursor,
    IdempotencyKey,
    IfMatch,
    Limit,
    Signed,
    TheDesk,
    add,
    offset_page,
    once,
    refuse_taken,
    save,
    tagged,
    the,
)
from portero.store import devices, estates

router = APIRouter()

# --- rulesets ---


def _summed_up(desk: Desk, ruleset: Ruleset, version: int) -> dict[str, Any]:
    return {
        "key": ruleset.key,
        "name": ruleset.name or ruleset.key,
        "kind": ruleset.kind,
        "feed": ruleset.feed,
        "rule_count": len(ruleset.rules),
        "sentence": desk.ruleset_sentence(ruleset),
        "assignments": tuple(one.key for one in desk.snapshot.estate.assignments if one.ruleset == ruleset.key),
        "version": version,
    }


def _rulesets(desk: Desk) -> list[RulesetSummary]:
    estate, revision = desk.snapshot
    with desk.store.reading() as connection:
        versions = estates.versions(connection, "ruleset")
    return [RulesetSummary(**_summed_up(desk, one, versions.get(one.key, revision))) for one in estate.rulesets]


@router.get("/rulesets", summary="List rulesets", operation_id="listRulesets", tags=["rulesets"])
def list_rulesets(_who: Signed, desk: TheDesk, cursor: Cursor = None, limit: Limit = 1000) -> Page[RulesetSummary]:
    """All rulesets, with what each does in words and the assignments that use it; their rules are counted."""
    return offset_page(_rulesets(desk), cursor, limit)


@router.get("/rulesets/{key}", summary="Show a ruleset", operation_id="getRuleset", tags=["rulesets"])
def get_ruleset(key: str, response: Response, _who: Signed, desk: TheDesk) -> RulesetState:
    """One ruleset with its rules."""
    estate, revision = desk.snapshot
    ruleset: Ruleset = the(estate.rulesets, "ruleset", key)
    with desk.store.reading() as connection:
        version = estates.versions(connection, "ruleset").get(key, revision)
    tagged(response, version)
    # not checked again: a long list would take its time
    return RulesetState.model_construct(**_summed_up(desk, ruleset, version), rules=ruleset.rules)


@router.post("/rulesets", summary="Make a ruleset", operation_id="createRuleset", status_code=201, tags=["rulesets"])
def create_ruleset(
    body: Ruleset,
    response: Response,
    change: Authoring,
    idempotency_key: IdempotencyKey = None,
) -> RulesetState:
    """Make a ruleset. It does nothing until it is assigned."""
    change(add("ruleset", "rulesets", body), noun="ruleset", once=once(idempotency_key, body))
    return get_ruleset(body.key, response, change.who, change.desk)


@router.put("/rulesets/{key}", summary="Change a ruleset", operation_id="putRuleset", tags=["rulesets"])
def put_ruleset(
    key: str,
    body: Ruleset,
    response: Response,
    change: Authoring,
    if_match: IfMatch = None,
) -> RulesetState:
    """Change a ruleset; it takes hold wherever it is assigned. 412 where somebody else changed it meanwhile."""
    change(save("ruleset", "rulesets", key, if_match, body), noun="ruleset")
    return get_ruleset(key, response, change.who, change.desk)


@router.delete(
    "/rulesets/{key}", summary="Remove a ruleset", operation_id="removeRuleset", status_code=204, tags=["rulesets"]
)
def remove_ruleset(
    key: str,
    change: Authoring,
    if_match: IfMatch = None,
) -> None:
    """Remove a ruleset that no assignment uses."""
    removing = save("ruleset", "rulesets", key, if_match, None)

    def edit(estate: Estate, versions: Any) -> Estate:
        users = [assignment.key for assignment in estate.assignments if assignment.ruleset == key]
        if users:
            raise Problem("in-use", f"The ruleset “{key}” is used by {sentences.joined(users)}; remove those first.")
        return removing(estate, versions)

    change(edit, noun="ruleset")


@router.post("/sentences/ruleset", summary="A ruleset in words", operation_id="describeRuleset", tags=["rulesets"])
def describe_ruleset(body: Ruleset, _who: Signed) -> Sentence:
    """What a ruleset, saved or not, does in words. Nothing is kept."""
    return Sentence(sentence=sentences.ruleset_sentence(body))


# --- assignments ---


def _assignments(desk: Desk) -> list[AssignmentSummary]:
    estate = desk.snapshot.estate
    with desk.store.reading() as connection:
        versions = estates.versions(connection, "assignment")
        return [
            AssignmentSummary(
                **assignment.model_dump(),
                sentence=sentences.assignment_sentence(assignment, estate.ruleset_by_key[assignment.ruleset]),
                devices=devices.count_reached(connection, assignment.groups, assignment.named_devices),
                version=versions.get(assignment.key, desk.snapshot.revision),
            )
            for assignment in estate.assignments
        ]


@router.get("/assignments", summary="List assignments", operation_id="listAssignments", tags=["assignments"])
def list_assignments(
    _who: Signed,
    desk: TheDesk,
    ruleset: Annotated[str | None, Query(max_length=64)] = None,
    group: Annotated[str | None, Query(max_length=64)] = None,
    cursor: Cursor = None,
    limit: Limit = 1000,
) -> Page[AssignmentSummary]:
    """Assignments, of one ruleset or on one group where asked for."""
    found = [
        one
        for one in _assignments(desk)
        if (ruleset is None or one.ruleset == ruleset) and (group is None or group in one.groups)
    ]
    return offset_page(found, cursor, limit)


@router.get("/assignments/{key}", summary="Show an assignment", operation_id="getAssignment", tags=["assignments"])
def get_assignment(key: str, response: Response, _who: Signed, desk: TheDesk) -> AssignmentSummary:
    """One assignment."""
    assignment: AssignmentSummary = the(_assignments(desk), "assignment", key)
    tagged(response, assignment.version)
    return assignment


@router.post(
    "/assignments",
    summary="Assign a ruleset to groups",
    operation_id="createAssignment",
    status_code=201,
    tags=["assignments"],
)
def create_assignment(
    body: NewAssignment,
    response: Response,
    change: Authoring,
    idempotency_key: IdempotencyKey = None,
) -> AssignmentSummary:
    """Put a ruleset on groups. Without a key one is made of the ruleset and the first group."""

    def edit(estate: Estate, _versions: Any) -> Estate:
        taken = [one.key for one in estate.assignments]
        if body.key:
            refuse_taken(estate.assignments, "assignment", body.key)
        return estate.replacing(assignments=(*estate.assignments, body.keyed(taken)))

    key = change(
        edit,
        noun="assignment",
        reason=body.reason,
        once=once(idempotency_key, body),
        answer=lambda estate: estate.assignments[-1].key,
    )
    return get_assignment(key, response, change.who, change.desk)


@router.put("/assignments/{key}", summary="Change an assignment", operation_id="putAssignment", tags=["assignments"])
def put_assignment(
    key: str,
    body: Assignment,
    response: Response,
    change: Authoring,
    if_match: IfMatch = None,
) -> AssignmentSummary:
    """Change anything about an assignment: its groups, its state, its strength."""
    change(save("assignment", "assignments", key, if_match, body), noun="assignment")
    return get_assignment(key, response, change.who, change.desk)


@router.delete(
    "/assignments/{key}",
    summary="Remove an assignment",
    operation_id="removeAssignment",
    status_code=204,
    tags=["assignments"],
)
def remove_assignment(
    key: str,
    change: Authoring,
    if_match: IfMatch = None,
) -> None:
    """Take a ruleset off its groups."""
    change(save("assignment", "assignments", key, if_match, None), noun="assignment")
