"""The board: all that is assigned, seen at once."""

from __future__ import annotations

from portero.core.nouns.action import Action, overridden
from portero.core.nouns.assignment import Assignment, State, target_name
from portero.core.nouns.board import Board, BoardCell, BoardColumn, BoardRow, ObservedCell
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import BUILT_IN
from portero.core.sentences import observing as words
from portero.service.auditing import audited_router
from portero.service.keepers import Keepers
from portero.service.routes.common import Cursor, Limit, Signed, TheKeepers, offset_page
from portero.store import device_lists, observations
from portero.store.moments import moment
from portero.store.observations import SettledCount

router = audited_router()


def board_rows(keepers: Keepers) -> list[BoardRow]:
    estate = keepers.estate.snapshot.estate
    with keepers.store.reading() as connection:
        sizes = device_lists.group_sizes(connection)
    names = {group.key: group.name for group in estate.groups}
    alone = dict.fromkeys(name for assignment in estate.assignments for name in assignment.named_devices)
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


@router.get(
    "/board", summary="The board", operation_id="getBoard", tags=["assignments"], response_model_exclude_defaults=True
)
def get_board(_who: Signed, keepers: TheKeepers, cursor: Cursor = None, limit: Limit = 50) -> Board:
    """What is assigned, seen at once: groups by precedence down, rulesets across, what is put where they meet. What is
    as usual is left out. What an assignment says in words is told with it alone.
    """
    snapshot = keepers.estate.snapshot
    estate = snapshot.estate
    now = moment(keepers.now())
    rows = board_rows(keepers)
    page = offset_page(rows, cursor, limit)
    shown = {row.target for row in page.items}
    machines = {row.target: row.devices for row in page.items}
    with keepers.store.reading() as connection:
        counts = observations.settled_counts(connection, list(shown))

    def cell(assignment: Assignment, target: str) -> BoardCell:
        made = _cell(assignment, target, estate, bool(assignment.ends and assignment.ends <= now))
        count = counts.get((assignment.key, target))
        return made if count is None else made.model_copy(update={"observed": _observed(count, machines[target])})

    cells = tuple(
        cell(assignment, name)
        for assignment in estate.assignments
        for name in map(target_name, assignment.to)
        if name in shown
    )
    return Board(
        revision=snapshot.revision,
        rows=tuple(page.items),
        next=page.next,
        total=page.total,
        groups=len(estate.groups),
        columns=tuple(
            BoardColumn(ruleset=one.key, name=one.name or one.key, kind=one.kind, rules=len(one.rules), feed=one.feed)
            for one in sorted(estate.rulesets, key=lambda ruleset: _KINDS.index(ruleset.kind))
        ),
        cells=cells,
        in_force=sum(
            assignment.state is State.ACTIVE and not (assignment.ends and assignment.ends <= now)
            for assignment in estate.assignments
        ),
    )


def _observed(count: SettledCount, machines: int) -> ObservedCell:
    return ObservedCell(
        machines=count.machines,
        held=count.held,
        at=moment(count.at),
        run=count.run,
        sentence=words.held_on(count.held, count.machines, machines),
    )


_KINDS = ("category", "indicator", "site", "startup")


def _cell(assignment: Assignment, target: str, estate: Estate, ended: bool) -> BoardCell:
    ruleset = estate.ruleset_by_key[assignment.ruleset]
    actions: set[Action] = {overridden(rule.action, assignment.action) for rule in ruleset.rules}
    return BoardCell(
        target=target,
        ruleset=assignment.ruleset,
        assignment=assignment.key,
        action=actions.pop() if len(actions) == 1 else None,
        state=assignment.state,
        ended=ended,
        mandatory=assignment.mandatory,
        schedule=assignment.schedule,
        people=assignment.names_people,
        place=assignment.place,
        until_restart=assignment.until_restart,
        exception=assignment.owner is not None,
    )
