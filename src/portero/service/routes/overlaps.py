"""What overlapping groups contribute, and what wins where they meet."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Annotated

from fastapi import Query

from portero.core import wording
from portero.core.insight.overlaps import overlap, shared_devices, typed_subjects
from portero.core.matching.members import Member
from portero.core.nouns.base import unknown_word
from portero.core.nouns.board import GroupOverlaps, Overlap
from portero.service.auditing import audited_router
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.board import board_rows
from portero.service.routes.common import Signed, TheKeepers

router = audited_router()
Groups = Annotated[Sequence[str], Query(max_length=20, description="Groups; machines in all of them are looked at.")]


@router.get("/overlaps", summary="What overlapping groups come to", operation_id="getOverlap", tags=["assignments"])
def get_overlap(
    _who: Signed,
    keepers: TheKeepers,
    group: Groups = (),
    device: Annotated[str | None, Query(max_length=253, description="One machine, in place of groups.")] = None,
    visit: Annotated[str | None, Query(max_length=8192, description="A category, a host or a URL, alone.")] = None,
    program: Annotated[str | None, Query(max_length=255, description="A program, by product or file name.")] = None,
) -> Overlap:
    """What some groups, or one machine's groups and its own name, each contribute to every category, host and program
    that they name, and what wins on the machines they share.
    """
    estate = keepers.estate.snapshot.estate
    world = keepers.foresight.world()
    targets, members = _machine(keepers, device) if device else _shared(keepers, group)
    typed = list(typed_subjects(visit, program, world.programs()))
    return overlap(estate, world, targets, members, typed)


def _machine(keepers: Keepers, name: str) -> tuple[list[str], list[Member]]:
    device = keepers.fleet.device(name)
    member = keepers.fleet.members.get(device.id)
    named = [one for one in (device.hostname, device.id) if one in keepers.estate.snapshot.estate.named_devices]
    return [*named, *device.groups], [member] if member else []


def _shared(keepers: Keepers, groups: Sequence[str]) -> tuple[list[str], list[Member]]:
    order = keepers.estate.snapshot.estate.group_order
    for key in groups:
        if key not in order:
            raise Refusal("not-found", wording.as_sentence(unknown_word("group", key, order)))
    if not groups:
        raise Refusal("invalid", "Name the groups that are to be compared, or one device.")
    fleet = keepers.fleet.members
    held = [member for member in fleet if set(groups) <= set(fleet.groups_of(member.id))]
    return sorted(dict.fromkeys(groups), key=order.index), held


@router.get("/group-overlaps", summary="How groups overlap", operation_id="getGroupOverlaps", tags=["groups"])
def get_group_overlaps(_who: Signed, keepers: TheKeepers) -> GroupOverlaps:
    """How many machines each group holds, and how many every two of them share."""
    rows = [board_row for board_row in board_rows(keepers) if not board_row.device and not board_row.built_in]
    fleet = keepers.fleet.members
    counts = Counter(fleet.groups_of(member.id) for member in fleet)
    shared = shared_devices(counts, [row.target for row in rows])
    return GroupOverlaps(groups=tuple(rows), shared=tuple(shared))
