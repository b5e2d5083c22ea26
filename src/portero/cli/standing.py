"""How the fleet stands: roll-out, readiness, layer modes, coverage."""

from __future__ import annotations

import argparse
import sys
import time
from datetime import UTC, datetime
from typing import Any

from portero.cli import output
from portero.cli.command import (
    DONE,
    NOT_AS_EXPECTED,
    Commands,
    Context,
    UsageProblem,
    add_change,
    add_csv,
    add_limit,
    joined_by_commas,
)
from portero.client import Portero
from portero.core import sentences
from portero.core.nouns.coverage import ANY, CoverageEntry, CoverageRow
from portero.core.nouns.device import LAYERS, Device, LayerMode
from portero.core.nouns.readiness import FleetReadiness
from portero.core.nouns.rollout import RolloutCounts
from portero.core.nouns.settings import GroupLayers

# --- roll-out ---


def _rollout_line(counts: RolloutCounts) -> str:
    total = counts.current + counts.waiting + counts.failed + counts.silent
    parts = [f"{counts.current} of {sentences.counted(total, 'machine')} hold their newest bundle"]
    for word in ("waiting", "failed", "silent"):
        if number := getattr(counts, word):
            parts.append(f"{number} {word}")
    return f"Revision {counts.revision}: " + ", ".join(parts)


def rollout(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        counts = portero.devices.rollout()
        if options.watch:
            return _watch(portero, counts)
        behind = [
            device
            for state in ("failed", "waiting", "silent")
            for device in portero.devices.list(rollout=state, limit=options.limit)
        ]
    if options.json:
        output.print_json({"counts": counts, "behind": behind})
        return DONE
    output.say(_rollout_line(counts))
    if behind:
        headings = ("HOSTNAME", "STATE", "SINCE", "HOLDS", "SHOULD HAVE", "EXPECTED")
        output.print_table(headings, [_behind(device) for device in behind[: options.limit]], right=(3, 4))
    return DONE


def _behind(device: Device) -> tuple[Any, ...]:
    rollout = device.rollout
    assert rollout is not None
    return (
        device.hostname,
        output.mark(rollout.state),
        output.ago(rollout.since),
        str(rollout.revision or "–"),
        str(rollout.wanted_revision),
        rollout.problem or _expected(rollout.expected_in),
    )


def _expected(seconds: float | None) -> str:
    return "–" if seconds is None else f"in about {output.span(seconds)}"


def _watch(portero: Portero, counts: RolloutCounts) -> int:
    """Follow the roll-out until nobody waits; a new line only where something changed."""
    told = None
    try:
        while True:
            line = _rollout_line(counts)
            if line != told:
                print(line, flush=True)
                told = line
            if not counts.waiting and not counts.failed:
                return DONE
            time.sleep(1)
            counts = portero.devices.rollout()
    except KeyboardInterrupt:
        print(file=sys.stderr)
        return NOT_AS_EXPECTED


# --- readiness ---


def readiness(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        found = portero.enforcement.readiness(unit=options.unit, group=options.group)
        units = portero.enforcement.unit_readiness(options.unit) if not options.group else []
    if options.json:
        output.print_json({"readiness": found, "units": units})
        return _gaps(found)
    scope = found.unit or found.group or "the fleet"
    output.say(f"{sentences.counted(found.devices, 'machine')} in {scope}, {found.uncovered} of them never joined.")
    for sentence in (sentences.readiness_sentence(layer) for layer in found.layers):
        output.say(sentence, indent=2)
    if found.blockers:
        rows = [
            (str(one.devices), one.code.value, one.layer or "", one.detail + " " + one.remedy) for one in found.blockers
        ]
        output.print_table(("MACHINES", "IN THE WAY", "LAYER", "WHAT, AND WHAT TO DO"), rows, right=(0,))
        output.say("See which: portero device list --blocker CODE [--layer LAYER]")
    if len(units) > 1:
        columns = ("UNIT", "MACHINES", "NEVER JOINED", *(f"{layer.upper()} ENFORCED" for layer in LAYERS))
        output.print_table(
            columns,
            [
                (one.unit, str(one.devices), str(one.uncovered), *(str(one.enforcing[layer]) for layer in LAYERS))
                for one in units
            ],
            right=(1, 2, 3, 4, 5),
        )
    return _gaps(found)


def _gaps(found: FleetReadiness) -> int:
    return NOT_AS_EXPECTED if any(layer.enforcing < layer.meant for layer in found.layers) else DONE


# --- layer modes ---


def layers_show(context: Context) -> int:
    with context.client() as portero:
        return _tell_layers(context, portero)


def _tell_layers(context: Context, portero: Portero) -> int:
    settings = portero.enforcement.settings()
    modes = list(portero.layer_modes.list())
    if context.options.json:
        output.print_json({"settings": settings, "layer_modes": modes})
        return DONE
    rows = [(one.group, *(getattr(one, layer) or "–" for layer in LAYERS)) for one in modes]
    rows.append(("estate", *(getattr(settings.layers, layer).value for layer in LAYERS)))
    output.print_table(("STRONGEST FIRST", *(layer.upper() for layer in LAYERS)), rows)
    networks = sentences.joined(settings.gateway_networks) or "none"
    output.say(f"Gateway networks, to which on-site machines leave filtering: {networks}")
    return DONE


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
    before = next((one for one in portero.layer_modes.list() if one.group == options.group), None)
    version = before.version if before else None
    if options.clear:
        portero.layer_modes.remove(options.group, version=version, reason=options.reason)
        return
    kept = {layer: getattr(before, layer) for layer in LAYERS} if before else {}
    modes = GroupLayers.model_validate({"group": options.group, **kept, **wanted})
    portero.layer_modes.put(modes, version=version, reason=options.reason)


def _set_estate(portero: Portero, options: argparse.Namespace, wanted: dict[str, str]) -> None:
    seen = portero.enforcement.settings()
    networks = joined_by_commas(options.gateway_networks) if options.gateway_networks else seen.gateway_networks
    changed: dict[str, object] = {
        "layers": {**seen.layers.model_dump(), **wanted},
        "gateway_networks": [] if options.gateway_networks == "none" else networks,
    }
    portero.enforcement.change_settings(reason=options.reason, **changed)


# --- coverage ---


def coverage_list(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        if not options.csv:
            return _tell_coverage(context, portero)
        rows = list(portero.coverage.list())
    names = [name for name in CoverageEntry.model_fields if name != "version"]
    output.print_csv(names, ([getattr(one, name) for name in names] for one in rows))
    return DONE


def _tell_coverage(context: Context, portero: Portero) -> int:
    rows = list(portero.coverage.list())
    if context.options.json:
        output.print_json(rows)
        return DONE
    table = [
        (
            *(one.control, one.browser, one.platform, one.http.value, one.https.value),
            *(one.browser_from or "–", one.layer_from or "–", str(one.date)),
            one.source + ("" if one.shipped else " (edited)"),
        )
        for one in rows
    ]
    headings = ("CONTROL", "BROWSER", "PLATFORM", "HTTP", "HTTPS", "FROM VERSION", "LAYER FROM", "DATE", "SOURCE")
    output.print_table(headings, table)
    return DONE


def coverage_set(context: Context) -> int:
    options = context.options
    given = {name: value for name in ("browser_from", "layer_from") if (value := getattr(options, name))}
    row = CoverageRow.model_validate(
        {
            **{name: getattr(options, name) for name in ("control", "browser", "platform", "http", "https", "source")},
            **given,
            "date": datetime.now(UTC).date(),
        }
    )
    with context.client() as portero:
        version = {one.key: one.version for one in portero.coverage.list()}.get(row.key)
        portero.coverage.put(row, version=version, reason=options.reason)
        return _tell_coverage(context, portero)


def coverage_reset(context: Context) -> int:
    options = context.options
    key = f"{options.control}/{options.browser}/{options.platform}"
    with context.client() as portero:
        portero.coverage.remove(key, reason=options.reason)
        return _tell_coverage(context, portero)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    out = commands.add("rollout", rollout, "How far the newest bundles have got.", "portero rollout --watch")
    out.add_argument("--watch", action="store_true", help="follow it until every machine that answers is current")
    add_limit(out, 50)

    ready = commands.add(
        "readiness",
        readiness,
        "How many machines really enforce each layer, and what keeps the others. Exits 3 where some do not.",
        "portero readiness --unit brackwater/ships",
    )
    ready.add_argument("--unit", help="of this unit and all below it")
    ready.add_argument("--group", help="of this group")

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

    coverage = commands.noun("coverage", "Which control reaches which browser on which platform.", of="coverage row")
    listing = coverage.add("list", coverage_list, "Show the coverage table.", "portero coverage list")
    put = coverage.add(
        "set",
        coverage_set,
        "Edit a row of the table.",
        'portero coverage set filter gullwing --https none --source "tried at the desk"',
    )
    reset = coverage.add(
        "reset", coverage_reset, "Put a row back as shipped.", "portero coverage reset filter gullwing"
    )
    for made in (put, reset):
        made.add_argument("control", choices=("filter", "site-list", "startup"))
        made.add_argument("browser", nargs="?", default=ANY, help="name of the browser, or any")
        made.add_argument("platform", nargs="?", default=ANY, help="family of the operating system, or any")
        add_change(made)
    put.add_argument("--http", choices=("page", "host", "none"), default="page", help="reach over http (page)")
    put.add_argument("--https", choices=("page", "host", "none"), required=True, help="reach over https")
    put.add_argument("--browser-from", metavar="VERSION", help="lowest version of the browser")
    put.add_argument("--layer-from", metavar="VERSION", help="lowest version of the layer")
    put.add_argument("--source", required=True, help="who found it out, and how")
    add_csv(listing)
