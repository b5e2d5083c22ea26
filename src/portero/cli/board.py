"""The board: all that is assigned, group by group; and what wins where groups overlap."""

from __future__ import annotations

from portero.cli import output
from portero.cli.command import Commands, Context, UsageProblem, present
from portero.core import wording
from portero.core.nouns.board import BoardCell, ObservedCell, Overlap, OverlapOutcome, OverlapRow

MOST_ROWS, MOST_OUTCOMES = 60, 8


def board(context: Context) -> int:
    with context.client() as portero:
        found = portero.board.get()

    def tell() -> None:
        kinds = {column.ruleset: column.kind for column in found.columns}
        by_target: dict[str, list[BoardCell]] = {}
        for cell in found.cells:
            by_target.setdefault(cell.target, []).append(cell)
        rows = []
        for row in found.rows:
            cells = sorted(by_target.get(row.target, ()), key=lambda cell: list(kinds).index(cell.ruleset))
            place = "" if row.precedence is None or row.built_in else str(row.precedence)
            rows.append((place, row.target, str(row.devices), "\n".join(map(_cell, cells)) or "-"))
        output.print_table(("", "GROUP", "MACHINES", "WHAT IS PUT ON IT"), rows, right=(0, 2))

    return present(context, found, tell)


def _cell(cell: BoardCell) -> str:
    marks = [
        *(["mandatory"] if cell.mandatory else []),
        *([f"during {cell.schedule}"] if cell.schedule else []),
        *(["for some people"] if cell.people else []),
        *([cell.place] if cell.place != "anywhere" else []),
        *(["exception"] if cell.exception else []),
        *([cell.state.value] if cell.state != "active" else []),
        *(["ended"] if cell.ended else []),
        *([f"observed {cell.observed.at:%Y-%m-%d %H:%M}: {_seen(cell.observed)}"] if cell.observed else []),
    ]
    told = cell.action.value if cell.action else "applies"
    return f"{told} {cell.ruleset}" + (f" ({', '.join(marks)})" if marks else "")


def _seen(told: ObservedCell) -> str:
    return told.sentence[:1].lower() + told.sentence[1:].rstrip(".")


def overlap(context: Context) -> int:
    """What groups or a machine's groups each contribute, and what wins."""
    options = context.options
    if bool(options.groups) == bool(options.device):
        raise UsageProblem("name the groups to compare, or one machine with --device")
    with context.client() as portero:
        found = portero.board.overlap(
            *options.groups, device=options.device, visit=options.visit, program=options.program
        )
    return present(context, found, lambda: _tell_overlap(found))


def _tell_overlap(found: Overlap) -> None:
    verb = "meet" if len(found.targets) > 1 else "is"
    output.say(f"{wording.joined(list(found.targets))} {verb} on {wording.counted(found.devices, 'machine')}.")
    if found.examples:
        output.say(f"such as {', '.join(found.examples[:4])}", indent=2)
    rows = [
        (wording.and_more(row.words, row.alike), "\n".join(_said(row)), "\n".join(_outcomes(row))) for row in found.rows
    ]
    if rows:
        output.print_table(("WHAT", "EACH SAYS", "ON THOSE MACHINES"), rows[:MOST_ROWS])
    else:
        output.say("They name nothing.")
    if len(rows) > MOST_ROWS:
        output.say(f"and {len(rows) - MOST_ROWS:,} more rows; --json lists them.")


def _said(row: OverlapRow) -> list[str]:
    return [
        f"{contribution.action.value} {wording.on(contribution.ruleset, contribution.target)}"
        + (f", {contribution.conditions}" if contribution.conditions else "")
        for contribution in row.contributions
    ] or ["-"]


def _outcomes(row: OverlapRow) -> list[str]:
    more = len(row.outcomes) - MOST_OUTCOMES
    return [*map(_outcome, row.outcomes[:MOST_OUTCOMES]), *([f"and {more:,} more"] if more > 0 else [])]


def _outcome(overlap_outcome: OverlapOutcome) -> str:
    parts = [
        overlap_outcome.verdict.value,
        *([overlap_outcome.when] if overlap_outcome.when else []),
        *([f"by {overlap_outcome.by}"] if overlap_outcome.by else []),
    ]
    return " ".join(parts) + f" ({overlap_outcome.devices:,})"


def register(commands: Commands) -> None:
    """Add this family's commands."""
    commands.add("board", board, "All that is assigned, group by group.", "portero board")
    made = commands.add(
        "overlap",
        overlap,
        "What overlapping groups each say, and what wins where they meet.",
        "portero overlap crew-mess satellite --visit reeltide.example",
    )
    made.add_argument("groups", nargs="*", metavar="GROUP", help="groups; machines in all of them are looked at")
    made.add_argument("--device", metavar="DEVICE", help="one machine's groups, in place of groups")
    made.add_argument("--visit", metavar="WHAT", help="a category, a host or a URL, alone")
    made.add_argument("--program", metavar="NAME", help="a program, by product or file name, alone")
