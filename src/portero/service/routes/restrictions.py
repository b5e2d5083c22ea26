"""Restrictions for a room: put on with one call, lifted with one, with receipts of each machine."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Annotated

from fastapi import Query

from portero.core import sentences, wording
from portero.core.insight import restrictions
from portero.core.insight.quick_words import QuickWordProblem
from portero.core.matching.classes import names_of
from portero.core.matching.members import Member
from portero.core.nouns.assignment import DeviceTarget, Target, target_name
from portero.core.nouns.device import Lifecycle
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import WHOLE_FLEET
from portero.core.nouns.preview import Preview
from portero.core.nouns.push import Push
from portero.core.nouns.restriction import BrowserNotReached, NewRestriction, RestrictionDone, Restrictions
from portero.service.auditing import audited_router
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.common import Asked, Authoring, Signed, TheKeepers, answered
from portero.service.routes.quick_rules import known_to
from portero.service.state import Snapshot
from portero.store.moments import moment

router = audited_router("assignments")
_TOLD = (Lifecycle.ENROLLED, Lifecycle.SILENT)
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
    if body.signed_in and not change.who.sees_names:
        raise Refusal("not-allowed", "Who is signed in is not shown to you; name the people, or restrict everybody.")
    not_reached: list[BrowserNotReached] = []
    targets: list[Target] = []

    def edit(snapshot: Snapshot) -> Estate:
        known, now = known_to(snapshot, keepers), moment(keepers.now())
        try:
            targets[:] = restrictions.targets_of(body.on, known)
            done = restrictions.put_on(body, known, _meant(keepers, targets), change.who.name, change.reason, now)
        except QuickWordProblem as problem:
            raise Refusal("invalid", wording.as_sentence(str(problem))) from problem
        not_reached[:] = done.not_reached
        return done.estate

    for_people = body.signed_in or bool(body.people)
    return _done(change, edit, body.key, targets, for_people=for_people, not_reached=not_reached)


@router.delete(
    "/restrictions/{restriction}",
    summary="Lift a restriction",
    operation_id="liftRestriction",
    response_model=RestrictionDone | Preview,
)
def lift_restriction(restriction: str, change: Authoring, on: On = []) -> RestrictionDone:  # noqa: B006 (FastAPI copies it)
    """Lift it everywhere, or on some machines and groups, and tell them at once. What it blocks stays kept."""
    estate, now = change.keepers.estate.snapshot.estate, moment(change.keepers.now())
    lifted = restrictions.targets_in_force(estate, restriction, now)
    if not lifted:
        raise Refusal("not-found", f"The restriction “{restriction}” is put on nowhere.")
    targets = [target for target in lifted if not on or target_name(target) in on]
    if not targets:
        raise Refusal("not-found", f"The restriction “{restriction}” is not put on {wording.joined(on, 'or')}.")

    def edit(snapshot: Snapshot) -> Estate:
        return restrictions.lift(snapshot.estate, restriction, on, moment(change.keepers.now()))

    return _done(change, edit, restriction, targets)


def _done(
    change: Asked,
    edit: Callable[[Snapshot], Estate],
    key: str,
    targets: Sequence[Target],
    for_people: bool = False,
    not_reached: Iterable[BrowserNotReached] = (),
) -> RestrictionDone:
    keepers = change.keepers
    result = change(edit)

    def tell(snapshot: Snapshot) -> RestrictionDone:
        found = [one for one in restrictions.in_force(snapshot.estate, moment(keepers.now())) if one.key == key]
        return RestrictionDone(
            in_force=tuple(found),
            not_for_people=for_people and restrictions.blocks_sites(snapshot.estate, key),
            not_reached=tuple(not_reached),
            revision=snapshot.revision,
            push=_push(keepers, targets, change.who.name, change.reason),
        )

    return answered(result, tell)


def _meant(keepers: Keepers, targets: Iterable[Target]) -> list[Member]:
    """The machines that these are, or that are in one of these groups."""
    members, groups, names = keepers.fleet.members, *_apart(targets)
    if WHOLE_FLEET in groups:
        return members.members()
    return [
        member
        for member in members
        if not groups.isdisjoint(members.groups_of(member.id)) or not names.isdisjoint(names_of(member))
    ]


def _push(keepers: Keepers, targets: Sequence[Target], by: str, reason: str | None) -> Push | None:
    """Tell the machines that are meant, as far as they have joined."""
    meant = [member for member in _meant(keepers, targets) if Lifecycle(member.lifecycle) in _TOLD]
    if not meant:
        return None
    groups, names = _apart(targets)
    named = [member.facts.hostname for member in meant if not names.isdisjoint(names_of(member))]
    return keepers.pushes.push([member.id for member in meant], sentences.push_scope(named, sorted(groups)), by, reason)


def _apart(targets: Iterable[Target]) -> tuple[set[str], set[str]]:
    """The groups, and the names of machines, among targets."""
    several = list(targets)
    groups = {target for target in several if isinstance(target, str)}
    return groups, {target.device for target in several if isinstance(target, DeviceTarget)}
