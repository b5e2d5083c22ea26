"""How far the newest bundles have got."""

from __future__ import annotations

import sys
import time
from typing import Any

from portero.cli import output
from portero.cli.command import (
    DONE,
    NOT_AS_EXPECTED,
    Commands,
    Context,
    add_limit,
    present,
)
from portero.client import Portero
from portero.core import wording
from portero.core.nouns.device import Device
from portero.core.nouns.rollout import RolloutCounts


def _rollout_line(counts: RolloutCounts) -> str:
    total = counts.current + counts.waiting + counts.failed + counts.silent
    parts = [f"{counts.current} of {wording.counted(total, 'machine')} hold their newest bundle"]
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

    def tell() -> None:
        output.say(_rollout_line(counts))
        if behind:
            headings = ("HOSTNAME", "STATE", "SINCE", "HOLDS", "SHOULD HAVE", "EXPECTED")
            output.print_table(headings, [_behind(device) for device in behind[: options.limit]], right=(3, 4))

    return present(context, {"counts": counts, "behind": behind}, tell)


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


def register(commands: Commands) -> None:
    """Add this family's commands."""
    out = commands.add("rollout", rollout, "How far the newest bundles have got.", "portero rollout --watch")
    out.add_argument("--watch", action="store_true", help="follow it until every machine that answers is current")
    add_limit(out, 50)
