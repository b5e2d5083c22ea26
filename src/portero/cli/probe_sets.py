"""Probe sets: attempts with the verdicts that are expected."""

from __future__ import annotations

import argparse
from typing import Any

from portero.cli import output
from portero.cli.command import Commands, Context, add_change, present
from portero.cli.family import NounFamily
from portero.cli.nouns import add_fields, teller_of, values_of
from portero.core import wording
from portero.core.nouns.assignment import DeviceTarget, Target
from portero.core.nouns.drawn import DrawnFrom
from portero.core.nouns.probe_set import ProbeSet


def draw_up(context: Context) -> int:
    """Draw a set up, and save it unless it is only to be looked at."""
    options = context.options
    wanted = DrawnFrom.model_validate({"key": options.key, "to": tuple(map(_target, options.to)), **_source(options)})
    with context.client() as portero:
        made = portero.probe_sets.draw_up(wanted)
        if not options.show:
            made = portero.probe_sets.create(made, reason=options.reason)

    def tell() -> None:
        expected = wording.counted(sum(one.expect != "allow" for one in made.probes), "probe")
        passing = wording.counted(sum(one.expect == "allow" for one in made.probes), "counter-probe")
        output.say(f"{made.key}: {expected} and {passing}.")
        rows = [(output.mark(one.expect), one.tried) for one in made.probes[:_MOST_SHOWN]]
        output.print_table(("EXPECTED", "TRIED"), rows)
        if len(made.probes) > len(rows):
            output.say(f"and {len(made.probes) - len(rows):,} more; --json lists them.")
        if not options.show:
            output.say(f"Try it: portero verify {made.key}")

    return present(context, made, tell)


_MOST_SHOWN = 20


def _target(word: str) -> Target:
    return DeviceTarget(device=word.removeprefix("device:")) if word.startswith("device:") else word


def _source(options: argparse.Namespace) -> dict[str, Any]:
    names = ("ruleset", "assignment", "visited", "stopped", "device", "days", "name")
    return {name: value for name in names if (value := getattr(options, name)) is not None}


def register(commands: Commands) -> None:
    """Add this family's commands."""
    family = NounFamily(ProbeSet)
    verbs, tell = family.declare(commands), teller_of(family.noun)
    rows = family.list(
        ("PROBE SET", "NAME", "PROBES"),
        lambda found: (found.key, found.name or "", str(len(found.probes))),
        "There is no probe set yet: portero probe-set draw-up KEY --ruleset RULESET",
    )
    family.add_list(verbs, rows)
    family.add_show(verbs, family.show(tell), "acceptance")
    put = family.add_set(verbs, family.set(values_of, tell), "acceptance name=Always")
    add_fields(put)
    add_change(put)
    family.add_remove(verbs, family.remove(), "acceptance")
    _register_draw_up(verbs)


def _register_draw_up(verbs: Commands) -> None:
    drawing = verbs.add(
        "draw-up",
        draw_up,
        "Draw a probe set up from a ruleset, an assignment, or what machines did, and save it.",
        "portero probe-set draw-up quiet-link-holds --ruleset quiet-link --to satellite",
    )
    drawing.add_argument("key", metavar="KEY", help="the key that it will have")
    source = drawing.add_mutually_exclusive_group(required=True)
    source.add_argument("--ruleset", metavar="KEY", help="each of its selectors, and one beside it that must pass")
    source.add_argument("--assignment", metavar="KEY", help="the same, where and for whom it counts")
    source.add_argument("--visited", type=int, metavar="N", help="the N hosts that are visited most stay open")
    source.add_argument("--stopped", type=int, metavar="N", help="the N hosts that were stopped most stay so")
    drawing.add_argument("--device", metavar="MACHINE", help="with --stopped: only what was stopped there")
    drawing.add_argument("--days", type=int, metavar="N", help="how far back visits and stops are looked at (14)")
    drawing.add_argument("--name", help="its name")
    drawing.add_argument(
        "--to", action="append", default=[], metavar="WHERE", help="where it counts: a group, or device:NAME"
    )
    drawing.add_argument("--show", action="store_true", help="only show it, and save nothing")
    add_change(drawing)
