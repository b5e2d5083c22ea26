"""How far apart machines' check-ins are: for the estate here, for a group with the group."""

from __future__ import annotations

from portero.cli import output
from portero.cli.command import Commands, Context, add_change, present


def check_in_show(context: Context) -> int:
    with context.client() as portero:
        seconds = portero.settings.get().check_in_seconds
        groups = [group for group in portero.groups.list() if group.check_in_seconds is not None]

    def tell() -> None:
        output.say(f"Machines check in every {seconds:,} seconds; those in these groups, the strongest first:")
        rows = [(group.key, f"{group.check_in_seconds:,}", str(group.devices)) for group in groups]
        if rows:
            output.print_table(("GROUP", "SECONDS", "MACHINES"), rows, right=(1, 2))
        else:
            output.say("None says otherwise: portero group edit GROUP --check-in SECONDS", indent=2)

    told = {group.key: group.check_in_seconds for group in groups}
    return present(context, {"check_in_seconds": seconds, "groups": told}, tell)


def check_in_set(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        made = portero.settings.change(reason=options.reason, check_in_seconds=options.seconds)
    told = f"Machines check in every {made.check_in_seconds:,} seconds, from their next check-in on."
    return present(context, {"check_in_seconds": made.check_in_seconds}, lambda: output.say(told))


def register(commands: Commands) -> None:
    """Add this family's commands."""
    noun = commands.noun("check-in", "How far apart machines' check-ins are.")
    noun.add("show", check_in_show, "Say how far apart they are, and for which groups.", "portero check-in show")
    change = noun.add(
        "set", check_in_set, "Say how far apart they are, for the estate.", "portero check-in set 300 --preview"
    )
    change.add_argument("seconds", type=int, metavar="SECONDS", help="15 to 86400")
    add_change(change)
