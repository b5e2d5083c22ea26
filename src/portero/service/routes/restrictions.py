"""Restrictions for a room: put on with one call, lifted with one, with receipts of each machine."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated

from fastapi import Query

from portero.core import sentences, wording
from portero.core.insight import restrictions
from portero.core.insight.quick_words import QuickWordProblem
from portero.core.nouns.device import Lifecycle
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import BUILT_IN
from portero.core.nouns.preview import Preview
from portero.core.nouns.push import Push
from portero.core.nouns.restriction import NewRestriction, RestrictionDone, Restrictions
from portero.service.auditing import audited_router
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.common import Asked, Authoring, Signed, TheKeepers, answered
from portero.service.routes.quick_rules import known_to
from portero.service.state import Snapshot
from portero.store import device_lists
from portero.store.device_lists import DeviceFilter
from portero.store.moments import moment

router = audited_router("assignments")
On = Annotated[list[str], Query(max_length=200, description="Groups and machines; all where left out.")]


@router.get("/restrictions", summary="List restrictions", operation_id="listRestrictions")
def list_restrictions(
    _who: Signed,
    keepers: TheKeepers,
    device: Annotated[str | None, Query(max_length=253, description="On this machine: id or hostname.")] = None,
) -> Restrictions:
    """What is restricted now, where, by whom and until when; and what can be put on again."""
    estate = keepers.estate.snapshot.estate
    found = restrictions.in_force(estate, moment(keepers.now()))
    if device is not None:
        known = keepers.fleet.device(device)
        names = {known.id, known.hostname, *known.groups}
        found = [one for one in found if not names.isdisjoint(one.on)]
    return Restrictions(in_force=tuple(found), kept=tuple(restrictions.kept(estate)))


@router.post(
    "/restrictions",
    summary="Put a restriction on",
    operation_id="putRestrictionOn",
    response_model=RestrictionDone | Preview,
)
def put_restriction_on(body: NewRestriction, change: Authoring) -> RestrictionDone:
    """Restrict some machines for a while, in one revision, and tell them at once.

    Underneath are ordinary rulesets, which stay for the next time, and mandatory assignments that end.
    """
    keepers = change.keepers

    def edit(snapshot: Snapshot) -> Estate:
        known = known_to(snapshot, keepers)
        try:
            return restrictions.put_on(body, known, change.who.name, change.reason, moment(keepers.now()))
        except QuickWordProblem as problem:
            raise Refusal("invalid", wording.as_sentence(str(problem))) from problem

    return _done(change, edit, body.key, body.on, for_people=bool(body.people))


@router.delete(
    "/restrictions/{restriction}",
    summary="Lift a restriction",
    operation_id="liftRestriction",
    response_model=RestrictionDone | Preview,
)
def lift_restriction(restriction: str, change: Authoring, on: On = []) -> RestrictionDone:  # noqa: B006 (FastAPI copies it)
    """Lift it everywhere, or on some machines and groups, and tell them at once. What it blocks stays kept."""
    estate, now = change.keepers.estate.snapshot.estate, moment(change.keepers.now())
    lifted = [one for one in restrictions.in_force(estate, now) if one.key == restriction]
    if not lifted:
        raise Refusal("not-found", f"The restriction “{restriction}” is put on nowhere.")
    where = tuple(name for one in lifted for name in one.on if not on or name in on)
    if not where:
        raise Refusal("not-found", f"The restriction “{restriction}” is not put on {wording.joined(on, 'or')}.")

    def edit(snapshot: Snapshot) -> Estate:
        return restrictions.lift(snapshot.estate, restriction, on)

    return _done(change, edit, restriction, where, for_people=False)


def _done(
    change: Asked, edit: Callable[[Snapshot], Estate], key: str, on: tuple[str, ...], for_people: bool
) -> RestrictionDone:
    keepers = change.keepers
    result = change(edit)

    def tell(snapshot: Snapshot) -> RestrictionDone:
        found = [one for one in restrictions.in_force(snapshot.estate, moment(keepers.now())) if one.key == key]
        return RestrictionDone(
            in_force=tuple(found),
            not_for_people=for_people and restrictions.blocks_sites(snapshot.estate, key),
            revision=snapshot.revision,
            push=_push(keepers, on, change.who.name, change.reason),
        )

    return answered(result, tell)


def _push(keepers: Keepers, on: tuple[str, ...], by: str, reason: str | None) -> Push | None:
    """Tell the machines that are meant, as far as they have joined."""
    known = {*keepers.estate.snapshot.estate.group_order, *BUILT_IN}
    groups = [name for name in on if name in known]
    ids: dict[str, None] = {}
    with keepers.store.reading() as connection:
        for group in groups:
            ids |= dict.fromkeys(device_lists.enrolled(connection, DeviceFilter(group=group), keepers.now()))
    named = [keepers.fleet.device(name) for name in on if name not in known]
    ids |= dict.fromkeys(device.id for device in named if device.lifecycle in (Lifecycle.ENROLLED, Lifecycle.SILENT))
    if not ids:
        return None
    scope = sentences.push_scope([device.hostname for device in named], groups)
    return keepers.pushes.push(list(ids), scope, by, reason)
