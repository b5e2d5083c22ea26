"""Groups, their previews, and their one order."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Response

from portero.core import sentences
from portero.core.insight.grouping import preview_group
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import (
    BUILT_IN,
    CopiedGroup,
    Group,
    GroupPreview,
    GroupSummary,
    Precedence,
    PrecedenceState,
)
from portero.core.nouns.membership import MembershipField, membership_fields
from portero.core.nouns.page import Page
from portero.service.desk import Desk
from portero.service.problems import Problem
from portero.service.refusing import refuse_faults
from portero.service.routes.common import (
    Authoring,
    Cursor,
    IdempotencyKey,
    IfMatch,
    Limit,
    Signed,
    TheDesk,
    add,
    expect_version,
    offset_page,
    once,
    refuse_taken,
    save,
    tagged,
    the,
)
from portero.store import devices, estates
from portero.store.estates import moment

router = APIRouter(tags=["groups"])

_BUILT_IN_WORDS = {
    "unclaimed": ("Unclaimed", "every device that no other group holds"),
    "whole-fleet": ("Whole fleet", "every device"),
}


def _groups(desk: Desk) -> list[GroupSummary]:
    estate = desk.snapshot.estate
    with desk.store.reading() as connection:
        sizes = devices.group_sizes(connection)
        versions = estates.versions(connection, "group")
    users: dict[str, list[str]] = {}
    for assignment in estate.assignments:
        for target in assignment.groups:
            users.setdefault(target, []).append(assignment.key)
    by_key = {group.key: group for group in estate.groups}
    summaries = []
    for place, key in enumerate(estate.group_order, start=1):
        group = by_key.get(key)
        name, sentence = _BUILT_IN_WORDS.get(key, (key, ""))
        summaries.append(
            GroupSummary(
                key=key,
                name=group.name or key if group else name,
                built_in=key in BUILT_IN,
                precedence=place,
                devices=sizes.get(key, 0),
                members=group.members if group else None,
                pins=group.pins if group else None,
                sentence=sentences.group_sentence(group) if group else sentence,
                assignments=tuple(users.get(key, ())),
                version=versions.get(key),
            )
        )
    return summaries


@router.get("/groups", summary="List groups", operation_id="listGroups")
def list_groups(_who: Signed, desk: TheDesk, cursor: Cursor = None, limit: Limit = 1000) -> Page[GroupSummary]:
    """All groups, strongest first, the built-in ones last, with how many devices each holds."""
    return offset_page(_groups(desk), cursor, limit)


@router.get("/groups/{key}", summary="Show a group", operation_id="getGroup")
def get_group(key: str, response: Response, _who: Signed, desk: TheDesk) -> GroupSummary:
    """One group."""
    group: GroupSummary = the(_groups(desk), "group", key)
    if group.version is not None:
        tagged(response, group.version)
    return group


@router.get("/membership-fields", summary="Facts for conditions", operation_id="listMembershipFields")
def list_membership_fields(_who: Signed) -> list[MembershipField]:
    """The facts that membership conditions may name, and how each is compared."""
    return membership_fields()


@router.post("/groups/preview", summary="Preview a group", operation_id="previewGroup")
def preview(body: Group, _who: Signed, desk: TheDesk) -> GroupPreview:
    """Whom a group, saved or not, would hold: who comes in and who drops out. Nothing is kept."""
    return preview_group(desk.roster.fleet, body, moment(desk.now()))


@router.post("/groups", summary="Make a group", operation_id="createGroup", status_code=201)
def create_group(
    body: Group,
    response: Response,
    change: Authoring,
    idempotency_key: IdempotencyKey = None,
) -> GroupSummary:
    """Make a group; it is usable everywhere at once. It stands weakest among the groups that are not built in."""
    edit = add("group", "groups", body)
    change(edit, noun="group", once=once(idempotency_key, body))
    return get_group(body.key, response, change.who, change.desk)


@router.post("/groups/{key}/copy", summary="Copy a group", operation_id="copyGroup", status_code=201)
def copy_group(
    key: str,
    body: CopiedGroup,
    response: Response,
    change: Authoring,
) -> GroupSummary:
    """Make a group with the same rule and pins as another one. It stands right behind it; nothing is assigned to it."""

    def edit(estate: Estate, _versions: Any) -> Estate:
        original: Group = the(estate.groups, "group", key)
        refuse_taken(estate.groups, "group", body.key)
        copied = Group.model_validate({**original.model_dump(), "key": body.key, "name": body.name})
        order = [one for one in estate.group_order if one not in BUILT_IN]
        order.insert(order.index(key) + 1, body.key)
        return estate.replacing(groups=(*estate.groups, copied), precedence=tuple(order))

    change(edit, noun="group")
    return get_group(body.key, response, change.who, change.desk)


@router.put("/groups/{key}", summary="Change a group", operation_id="putGroup")
def put_group(
    key: str,
    body: Group,
    response: Response,
    change: Authoring,
    if_match: IfMatch = None,
) -> GroupSummary:
    """Change a group. 412 with the newest state where somebody else changed it meanwhile."""
    change(save("group", "groups", key, if_match, body), noun="group")
    return get_group(key, response, change.who, change.desk)


@router.delete("/groups/{key}", summary="Remove a group", operation_id="removeGroup", status_code=204)
def remove_group(
    key: str,
    change: Authoring,
    if_match: IfMatch = None,
) -> None:
    """Remove a group that no assignment and no layer modes name."""
    removing = save("group", "groups", key, if_match, None)

    def edit(estate: Estate, versions: Any) -> Estate:
        users = [f"assignment {one.key}" for one in estate.assignments if key in one.groups]
        users += ["its layer modes" for one in estate.layer_modes if one.group == key]
        if users:
            raise Problem("in-use", f"The group “{key}” is named by {sentences.joined(users)}; change those first.")
        after = removing(estate, versions)
        return after.replacing(precedence=tuple(one for one in after.precedence if one != key))

    change(edit, noun="group")


# --- the one order ---


def _reordered(estate: Estate, order: tuple[str, ...]) -> Estate:
    after = estate.replacing(precedence=tuple(key for key in order if key not in BUILT_IN))
    refuse_faults(after)
    return after


@router.get("/precedence", summary="The order of groups", operation_id="getPrecedence")
def get_precedence(response: Response, _who: Signed, desk: TheDesk) -> PrecedenceState:
    """All groups that are not built in, strongest first."""
    with desk.store.reading() as connection:
        version = estates.versions(connection, "precedence")["precedence"]
    tagged(response, version)
    order = tuple(key for key in desk.snapshot.estate.group_order if key not in BUILT_IN)
    return PrecedenceState(precedence=order, version=version)


@router.put("/precedence", summary="Order groups anew", operation_id="putPrecedence")
def put_precedence(
    body: Precedence,
    response: Response,
    change: Authoring,
    if_match: IfMatch = None,
) -> PrecedenceState:
    """Put groups into another order. Groups that are not named come after those that are."""

    def edit(estate: Estate, versions: Any) -> Estate:
        current = {"precedence": [key for key in estate.group_order if key not in BUILT_IN]}
        expect_version(if_match, "the order of groups", versions["precedence"], current)
        return _reordered(estate, body.precedence)

    change(edit, noun="precedence")
    return get_precedence(response, change.who, change.desk)
