"""How many machines really enforce each layer."""

from __future__ import annotations

from portero.cli import output
from portero.cli.command import (
    DONE,
    NOT_AS_EXPECTED,
    Commands,
    Context,
    present,
)
from portero.core import sentences, wording
from portero.core.nouns.layer import LAYERS
from portero.core.nouns.readiness import FleetReadiness


def readiness(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        found = portero.readiness.fleet(unit=options.unit, group=options.group)
        units = portero.readiness.units(options.unit) if not options.group else []

    def tell() -> None:
        scope = found.unit or found.group or "the fleet"
        output.say(f"{wording.counted(found.devices, 'machine')} in {scope}, {found.uncovered} of them never joined.")
        for sentence in (sentences.readiness_sentence(layer) for layer in found.layers):
            output.say(sentence, indent=2)
        if found.blockers:
            rows = [
                (str(blocker.devices), blocker.code.value, blocker.layer or "", blocker.detail + " " + blocker.remedy)
                for blocker in found.blockers
            ]
            output.print_table(("MACHINES", "IN THE WAY", "LAYER", "WHAT, AND WHAT TO DO"), rows, right=(0,))
            output.say("See which: portero device list --blocker CODE [--layer LAYER]")
        if len(units) > 1:
            columns = ("UNIT", "MACHINES", "NEVER JOINED", *(f"{layer.upper()} ENFORCED" for layer in LAYERS))
            output.print_table(
                columns,
                [
                    (
                        unit.unit,
                        str(unit.devices),
                        str(unit.uncovered),
                        *(str(unit.enforcing[layer]) for layer in LAYERS),
                    )
                    for unit in units
                ],
                right=(1, 2, 3, 4, 5),
            )

    present(context, {"readiness": found, "units": units}, tell)
    return _gaps(found)


def _gaps(found: FleetReadiness) -> int:
    return NOT_AS_EXPECTED if any(layer.enforcing < layer.meant for layer in found.layers) else DONE


def register(commands: Commands) -> None:
    """Add this family's commands."""
    ready = commands.add(
        "readiness",
        readiness,
        "How many machines really enforce each layer, and what keeps the others. Exits 3 where some do not.",
        "portero readiness --unit brackwater/ships",
    )
    ready.add_argument("--unit", help="of this unit and all below it")
    ready.add_argument("--group", help="of this group")
