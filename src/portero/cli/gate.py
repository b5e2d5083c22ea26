"""The gate: the probe sets that every change must pass."""

from __future__ import annotations

from portero.cli import output
from portero.cli.command import TAKE_BACK, Commands, Context, add_change, present
from portero.core import wording


def show_gate(context: Context) -> int:
    """Which sets every change must pass."""
    with context.client() as portero:
        keys = portero.settings.get().gate
    return present(context, {"gate": keys}, lambda: _tell(keys))


def set_gate(context: Context) -> int:
    """Let every change pass these sets from now on."""
    options = context.options
    keys = () if options.set == [TAKE_BACK] else tuple(dict.fromkeys(options.set))
    with context.client() as portero:
        made = portero.settings.change(reason=options.reason, gate=keys)
    return present(context, {"gate": made.gate}, lambda: _tell(made.gate))


def _tell(keys: tuple[str, ...]) -> None:
    if not keys:
        output.say("There is no gate: changes are made whatever probes come to.")
    else:
        output.say(f"Every change must pass {wording.joined(list(keys))}.")


def register(commands: Commands) -> None:
    """Add this family's commands."""
    gate = commands.noun("gate", "The probe sets that every change must pass.")
    gate.add("show", show_gate, "Show which probe sets every change must pass.", "portero gate show")
    setting = gate.add("set", set_gate, "Say which probe sets every change must pass.", "portero gate set acceptance")
    setting.add_argument("set", nargs="+", metavar="SET", help=f"keys of probe sets; “{TAKE_BACK}” for no gate")
    add_change(setting)
