"""Groups, their previews, and their one order."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from fastapi import Response

from portero.core import sentences
from portero.core.insight.group_previews import preview_group
from portero.core.nouns.estate import NOUNS, Estate
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
from portero.core.nouns.preview import Preview
from portero.service.auditing import asks, audited_router
from portero.service.keepers import Keepers
from portero.service.refusals import refuse_faults
from portero.service.routes.common import (
    PREVIEWS,
    Authoring,
    IfMatch,
    Signed,
    TheKeepers,
    answered,
    expect_version,
    refuse_taken,
    tagged,
    the,
)
from portero.service.routes.nouns import NounRoutes, Tell
from portero.service.state import Snapshot
from portero.store import device_lists
from portero.store.moments import moment

router = audited_router("groups")
_GROUP = NOUNS["group"]


class BuiltIn(NamedTuple):
    """A group that is always there."""

    key: str
    name: str
    sentence: str


_BUILT_IN = (
    BuiltIn("unclaimed", "Unclaimed", "every device that no other group holds"),
    BuiltIn("whole-fleet", "Whole fleet", "every device"),
)


def _listing(snapshot: Snapshot) -> Iterator[Group | BuiltIn]:
    """All groups, strongest first, the built-in ones last."""
    by_key: dict[str, Group | BuiltIn] = {group.key: group for group in _BUILT_IN}
    by_key |= {group.key: group for group in snapshot.estate.groups}
    return (by_key[key] for key in snapshot.estate.group_order)


def _telling(keepers: Keepers, snapshot: Snapshot) -> Tell:
    with keepers.store.reading() as connection:
        sizes = device_lists.group_sizes(connection)
    users: dict[str, list[str]] = {}
    for assignment in snapshot.estate.assignments:
        for target in assignment.groups:
            users.setdefault(target, []).append(assignment.key)
    places = {key: place for place, key in enumerate(snapshot.estate.group_order, start=1)}

    def tell(group: Group | BuiltIn, version: int | None) -> GroupSummary:
        own = group if isinstance(group, Group) else None
        return GroupSummary(
            key=group.key,
            name=group.name or group.key,
            built_in=isinstance(group, BuiltIn),
            precedence=places[group.key],
            devices=sizes.get(group.key, 0),
            members=own and own.members,
            pins=own and own.pins,
            check_in_seconds=own and own.check_in_seconds,
            sentence=group.sentence if isinstance(group, BuiltIn) else sentences.group_sentence(group),
            assignments=tuple(users.get(group.key, ())),
            version=version,
        )

    return tell


def _users(estate: Estate, key: str) -> list[str]:
    users = [f"assignment {assignment.key}" for assignment in estate.assignments if key in assignment.groups]
    return users + ["its layer modes" for layer_mode in estate.layer_modes if layer_mode.group == key]


def _removing(estate: Estate, key: str) -> Estate:
    return estate.replacing(precedence=tuple(group for group in estate.precedence if group != key))


ROUTES = NounRoutes(_GROUP, telling=_telling, listing=_listing, users=_users, removing=_removing)


@router.get("/membership-fields", summary="Facts for conditions", operation_id="listMembershipFields")
def list_membership_fields(_who: Signed) -> list[MembershipField]:
    """The facts that membership conditions may name, and how each is compared."""
    return membership_fields()


@router.post("/groups/preview", summary="Preview a group", operation_id="previewGroup")
@asks
def preview(body: Group, _who: Signed, keepers: TheKeepers) -> GroupPreview:
    """Whom a group, saved or not, would hold: who comes in and who drops out. Nothing is kept."""
    return preview_group(keepers.fleet.members, body, moment(keepers.now()))


@router.post(
    "/groups/{key}/copy", summary="Copy a group", operation_id="copyGroup", status_code=201, responses=PREVIEWS
)
def copy_group(key: str, body: CopiedGroup, response: Response, change: Authoring) -> GroupSummary:
    """Make a group with the same rule and pins as another one. It stands right behind it; nothing is assigned to it."""

    def edit(snapshot: Snapshot) -> Estate:
        estate = snapshot.estate
        original: Group = the(estate.groups, _GROUP, key)
        refuse_taken(estate, _GROUP, body.key)
        copied = Group.model_validate({**original.model_dump(), "key": body.key, "name": body.name})
        order = [group for group in estate.group_order if group not in BUILT_IN]
        order.insert(order.index(key) + 1, body.key)
        return estate.replacing(groups=(*estate.groups, copied), precedence=tuple(order))

    def shown(snapshot: Snapshot) -> GroupSummary:
        made: GroupSummary = ROUTES.tell_one(change.keepers, snapshot, body.key)
        tagged(response, made.version or 0)
        return made

    return answered(change(edit), shown)


# --- the one order ---


def _order(snapshot: Snapshot, response: Response) -> PrecedenceState:
    version = snapshot.version("precedence", "precedence")
    tagged(response, version)
    order = tuple(key for key in snapshot.estate.group_order if key not in BUILT_IN)
    return PrecedenceState(precedence=order, version=version)


@router.get("/precedence", summary="The order of groups", operation_id="getPrecedence")
def get_precedence(response: Response, _who: Signed, keepers: TheKeepers) -> PrecedenceState:
    """All groups that are not built in, strongest first."""
    return _order(keepers.estate.snapshot, response)


@router.put(
    "/precedence",
    summary="Order groups anew",
    operation_id="putPrecedence",
    response_model=PrecedenceState | Preview,
)
def put_precedence(
    body: Precedence, response: Response, change: Authoring, if_match: IfMatch = None
) -> PrecedenceState:
    """Put groups into another order. Groups that are not named come after those that are."""

    def edit(snapshot: Snapshot) -> Estate:
        estate, version = snapshot.estate, snapshot.version("precedence", "precedence")
        current = {"precedence": [key for key in estate.group_order if key not in BUILT_IN]}
        expect_version(if_match, "the order of groups", version, lambda: current)
        after = estate.replacing(precedence=tuple(key for key in body.precedence if key not in BUILT_IN))
        refuse_faults(after)
        return after

    return answered(change(edit), lambda snapshot: _order(snapshot, response))
