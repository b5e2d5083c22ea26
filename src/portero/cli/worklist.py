"""What needs a decision, most urgent first."""

from __future__ import annotations

from portero.cli import output
from portero.cli.command import Commands, Context, present
from portero.cli.progress import working


def overview(context: Context) -> int:
    with context.client() as portero, working("Looking over the estate"):
        found = portero.worklist.get()

    def tell() -> None:
        if not found.items:
            output.say("Nothing needs a decision now.")
            return
        rows = [(item.severity.value, item.kind, item.sentence, item.next) for item in found.items]
        output.print_table(("SEVERITY", "KIND", "WHAT", "NEXT"), rows)

    return present(context, found, tell)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    commands.add("overview", overview, "What needs a decision, most urgent first.", "portero overview")
