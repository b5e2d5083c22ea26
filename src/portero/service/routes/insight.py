"""The whole at a glance: the board, overlaps, the worklist; and what should be known while a rule is being written."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Annotated

from fastapi import APIRouter, Query

from portero.core import sentences
from portero.core.insight.overlapping import overlap, shared_devices, typed_subjects
from portero.core.insight.writing import warn_of_assignment, warn_of_ruleset
from portero.core.matching.members import Member
from portero.core.nouns.action import Action, overridden
from portero.core.nouns.assignment import Assignment, State, target_name
from portero.core.nouns.base import unknown_word
from portero.core.nouns.board import Board, BoardCell, BoardColumn, BoardRow, GroupOverlaps, Overlap
from portero.core.nouns.estate import Estate, assignment_faults
from portero.core.nouns.group import BUILT_IN
from portero.core.nouns.worklist import AuthoringWarning, Worklist, Writing
from portero.service.keepers import Keepers
from portero.service.problems import Problem
from portero.service.refusing import refuse_faults
from portero.service.routes.common import Author, Signed, TheKeepers
from portero.service.worklist import worklist
from portero.store import devices
from portero.store.moments import moment

router = APIRouter()
Groups = Annotated[Sequence[str], Query(max_length=20, description="Groups; machines in all of them are looked at.")]
OVERLAP_SECONDS = 3.0
WARNING_SECONDS = 2.0


# --- the board ---


def _rows(keepers: Keepers) -> list[BoardRow]:
    estate = keepers.estate.snapshot.estate
    with keepers.store.reading() as connection:
        sizes = devices.group_sizes(connection)
    names = {group.key: group.name for group in estate.groups}
    alone = dict.fromkeys(name for one in estate.assignments for name in one.named_devices)
    rows = [BoardRow(target=name, name=name, device=True, precedence=None, devices=1) for name in alone]
    return rows + [
        BoardRow(
            target=key,
            name=names.get(key) or key,
            built_in=key in BUILT_IN,
            precedence=place,
            devices=sizes.get(key, 0),
        )
        for place, key in enumerate(estate.group_order, start=1)
    ]


@router.get("/board", summary="The board", operation_id="getBoard", tags=["assignments"])
def get_board(_who: Signed, keepers: TheKeepers) -> Board:
    """All that is assigned, seen at once: groups by precedence down, rulesets across, what is put where they meet."""
    snapshot = keepers.estate.snapshot
    estate = snapshot.estate
    now = moment(keepers.now())
    cells = tuple(
        _cell(one, target_name(target), estate, bool(one.ends and one.ends <= now))
        for one in estate.assignments
        for target in one.to
    )
    return Board(
        revision=snapshot.revision,
        rows=tuple(_rows(keepers)),
        columns=tuple(
            BoardColumn(ruleset=one.key, name=one.name or one.key, kind=one.kind, rules=len(one.rules), feed=one.feed)
            for one in sorted(estate.rulesets, key=lambda one: _KINDS.index(one.kind))
        ),
        cells=cells,
        in_force=sum(one.state is State.ACTIVE and not (one.ends and one.ends <= now) for one in estate.assignments),
    )


_KINDS = ("category", "indicator", "site", "startup")


def _cell(one: Assignment, target: str, estate: Estate, ended: bool) -> BoardCell:
    ruleset = estate.ruleset_by_key[one.ruleset]
    actions: set[Action] = {overridden(rule.action, one.action) for rule in ruleset.rules}
    return BoardCell(
        target=target,
        ruleset=one.ruleset,
        assignment=one.key,
        action=actions.pop() if len(actions) == 1 else None,
        state=one.state,
        ended=ended,
        mandatory=one.mandatory,
        schedule=one.schedule,
        people=one.names_people,
        place=one.place,
        until_restart=one.until_restart,
        exception=one.owner is not None,
        sentence=sentences.assignment_sentence(one, ruleset),
    )


# --- overlaps ---


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
    world = keepers.foresight.world(OVERLAP_SECONDS)
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
            raise Problem("not-found", sentences.as_sentence(unknown_word("group", key, order)))
    if not groups:
        raise Problem("invalid", "Name the groups that are to be compared, or one device.")
    fleet = keepers.fleet.members
    held = [member for member in fleet if set(groups) <= set(fleet.groups_of(member.id))]
    return sorted(dict.fromkeys(groups), key=order.index), held


@router.get("/group-overlaps", summary="How groups overlap", operation_id="getGroupOverlaps", tags=["groups"])
def get_group_overlaps(_who: Signed, keepers: TheKeepers) -> GroupOverlaps:
    """How many machines each group holds, and how many every two of them share."""
    rows = [one for one in _rows(keepers) if not one.device and not one.built_in]
    fleet = keepers.fleet.members
    counts = Counter(fleet.groups_of(member.id) for member in fleet)
    shared = shared_devices(counts, [one.target for one in rows])
    return GroupOverlaps(groups=tuple(rows), shared=tuple(shared))


# --- the worklist ---


@router.get("/worklist", summary="What needs a decision", operation_id="getWorklist", tags=["findings"])
def get_worklist(_who: Signed, keepers: TheKeepers) -> Worklist:
    """Gaps, findings, endings of this week and stragglers, most urgent first, each with its one next step."""
    snapshot = keepers.estate.snapshot
    return worklist(keepers.store, snapshot.estate, keepers.findings.all(), keepers.now())


# --- while writing ---


@router.post("/warnings", summary="What to know of a rule", operation_id="listWarnings", tags=["rulesets"])
def list_warnings(body: Writing, _who: Author, keepers: TheKeepers) -> list[AuthoringWarning]:
    """What should be known of a ruleset or an assignment that is being written: what will not hold where, mistyped
    hosts, what is said already, what can never win. Nothing is kept.
    """
    estate = keepers.estate.snapshot.estate
    world = keepers.foresight.world(WARNING_SECONDS)
    found: list[AuthoringWarning] = []
    if body.ruleset is not None:
        found += warn_of_ruleset(body.ruleset, estate, world, keepers.holdings.index_in_force)
    if body.assignment is not None:
        one = body.assignment.keyed(())
        ruleset = estate.ruleset_by_key.get(one.ruleset)
        if ruleset is None or list(assignment_faults((), one, ruleset)):
            return found
        refuse_faults(estate.replacing(assignments=(one,)))
        found += warn_of_assignment(one, estate, world)
    return found
