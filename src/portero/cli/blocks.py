"""What a machine will block."""

from __future__ import annotations

from portero.cli import output
from portero.cli.command import (
    DONE,
    NOT_AS_EXPECTED,
    Commands,
    Context,
    present,
)
from portero.core import wording


def blocks(context: Context) -> int:
    with context.client() as portero:
        found = portero.devices.blocks(context.options.device)

    def tell() -> None:
        rows = []
        for row in found.categories:
            word = "log" if row.intended.verdict == "allow" and row.intended.logged else row.intended.verdict.value
            winner = row.intended.winner
            why = f"{winner.ruleset} on {winner.target}" + (", mandatory" if winner.mandatory else "") if winner else ""
            if not winner and row.intended.logged:
                why = f"recorded by {row.intended.logged[0].ruleset} on {row.intended.logged[0].target}"
            effective = row.effective.verdict if row.gap != "none" else word
            rows.append(
                (row.name, output.mark(word), output.mark(effective), row.gap if row.gap != "none" else "", why)
            )
        output.print_table(("CATEGORY", "INTENDED", "EFFECTIVE", "GAP", "BECAUSE OF"), rows)
        output.say(f"No rule names the other {wording.counted(found.undecided, 'category', 'categories')}.")
        for caveat in found.caveats:
            output.say(f"! {caveat.code}: {caveat.detail} {caveat.remedy}")

    present(context, found, tell)
    return NOT_AS_EXPECTED if any(row.gap != "none" for row in found.categories) else DONE


def register(commands: Commands) -> None:
    """Add this family's commands."""
    block = commands.add(
        "blocks", blocks, "What a machine will block. Exits 3 where there is a gap.", "portero blocks eastquay-kiosk-01"
    )
    block.add_argument("device", metavar="DEVICE", help="hostname or id")
