"""The clock on which moments are read that name no zone of their own."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from portero.cli import output
from portero.cli.command import Commands, Context, add_change, present


def zone_show(context: Context) -> int:
    with context.client() as portero:
        return _tell(context, portero.settings.get().zone)


def zone_set(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        return _tell(context, portero.settings.change(reason=options.reason, zone=options.zone).zone)


def _tell(context: Context, zone: str) -> int:
    there = f"{datetime.now(UTC).astimezone(ZoneInfo(zone)):%Y-%m-%d %H:%M}"
    told = f"Moments that name no zone are read on the clock of {zone}, where it is {there}."
    return present(context, {"zone": zone}, lambda: output.say(told))


def register(commands: Commands) -> None:
    """Add this family's commands."""
    noun = commands.noun("zone", "The clock on which moments are read that name no zone of their own.")
    noun.add("show", zone_show, "Say which one it is, and what it shows.", "portero zone show")
    change = noun.add("set", zone_set, "Say which one it is.", "portero zone set Europe/Berlin")
    change.add_argument("zone", metavar="ZONE", help="an IANA name, such as Europe/Berlin, or UTC")
    add_change(change)
