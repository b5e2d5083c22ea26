"""Layer modes: what each layer of a machine should do."""

from __future__ import annotations

import argparse

from portero.cli import output
from portero.cli.command import (
    Commands,
    Context,
    UsageProblem,
    add_change,
    joined_by_commas,
    present,
)
from portero.client import Portero
from portero.core import wording
from portero.core.nouns.layer import LAYERS, LayerMode
from portero.core.nouns.settings import GroupLayers


def layers_show(context: Context) -> int:
    with context.client() as portero:
        return _tell_layers(context, portero)


def _tell_layers(context: Context, portero: Portero) -> int:
    settings = portero.settings.get()
    modes = list(portero.layer_modes.list())

    def tell() -> None:
        rows = [(mode.group, *(getattr(mode, layer) or "–" for layer in LAYERS)) for mode in modes]
        rows.append(("estate", *(getattr(settings.layers, layer).value for layer in LAYERS)))
        output.print_table(("STRONGEST FIRST", *(layer.upper() for layer in LAYERS)), rows)
        networks = wording.joined(settings.gateway_networks) or "none"
        output.say(f"Gateway networks, to which on-site machines leave filtering: {networks}")

    return present(context, {"settings": settings, "layer_modes": modes}, tell)


def layers_set(context: Context) -> int:
    options = context.options
    wanted: dict[str, str] = {layer: mode for layer in LAYERS if (mode := getattr(options, layer))}
    if options.clear and (wanted or not options.group):
        raise UsageProblem("--clear takes all that a group says back: give it with --group, and without any layer")
    if not (wanted or options.clear or options.gateway_networks):
        raise UsageProblem("say what to set: --filter, --browser, --startup, --gateway-networks or --clear")
    if options.group and options.gateway_networks:
        raise UsageProblem("--gateway-networks are the estate's; leave --group out")
    with context.client() as portero:
        setting = _set_group if options.group else _set_estate
        setting(portero, options, wanted)
        return _tell_layers(context, portero)


def _set_group(portero: Portero, options: argparse.Namespace, wanted: dict[str, str]) -> None:
    before = next((layer_mode for layer_mode in portero.layer_modes.list() if layer_mode.group == options.group), None)
    version = before.version if before else None
    if options.clear:
        portero.layer_modes.remove(options.group, version=version, reason=options.reason)
        return
    kept = {layer: getattr(before, layer) for layer in LAYERS} if before else {}
    modes = GroupLayers.model_validate({"group": options.group, **kept, **wanted})
    portero.layer_modes.put(modes, version=version, reason=options.reason)


def _set_estate(portero: Portero, options: argparse.Namespace, wanted: dict[str, str]) -> None:
    seen = portero.settings.get()
    networks = joined_by_commas(options.gateway_networks) if options.gateway_networks else seen.gateway_networks
    changed: dict[str, object] = {
        "layers": {**seen.layers.model_dump(), **wanted},
        "gateway_networks": [] if options.gateway_networks == "none" else networks,
    }
    portero.settings.change(reason=options.reason, **changed)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    layers = commands.noun("layers", "What each layer of a machine should do.", of="layer modes")
    layers.add("show", layers_show, "Show layer modes, strongest group first.", "portero layers show")
    setting = layers.add(
        "set",
        layers_set,
        "Set layer modes, for the estate or for a group.",
        "portero layers set --group pilot --filter observing",
    )
    setting.add_argument("--group", help="of this group; of the estate where left out")
    for layer in LAYERS:
        setting.add_argument(
            f"--{layer}", choices=[mode.value for mode in LayerMode], help=f"what the {layer} layer does"
        )
    setting.add_argument("--clear", action="store_true", help="the group says nothing about layers any more")
    setting.add_argument("--gateway-networks", metavar="NETWORKS", help="of the estate, joined by commas; or none")
    add_change(setting)
