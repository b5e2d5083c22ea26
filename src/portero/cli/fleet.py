"""Devices, enrolment codes, groups, and how far the roll-out is."""

from __future__ import annotations

import argparse
import sys
import time
from typing import Any

from portero.cli import output
from portero.cli.command import (
    DONE,
    NOT_AS_EXPECTED,
    CommandProblem,
    Commands,
    Context,
    add_csv,
    add_limit,
    add_reason,
)
from portero.core import sentences
from portero.core.nouns.device import Browser, Device
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.group import Group, MembershipRule
from portero.core.nouns.revision import RolloutCounts


def _filters(options: argparse.Namespace) -> dict[str, Any]:
    names = ("search", "unit", "kind", "group", "lifecycle", "rollout", "sort")
    return {name: value for name in names if (value := getattr(options, name, None))}


def device_list(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        devices = list(portero.devices.list(limit=options.limit, **_filters(options)))
    if options.json:
        output.print_json(devices)
    elif options.csv:
        names = ("id", "hostname", "kind", "unit", "lifecycle", "groups", "last_heard", "rollout", "revision")
        output.print_csv(names, (_csv_row(device) for device in devices))
    elif not devices:
        output.say("No machine matches. Leave some filters out, or let machines join: portero enrol-code create")
    else:
        output.print_table(
            ("HOSTNAME", "KIND", "UNIT", "STRONGEST GROUP", "HEARD", "ROLL-OUT"),
            [
                (
                    device.hostname,
                    device.facts.kind.value,
                    device.facts.unit or "–",
                    device.groups[0],
                    output.ago(device.last_heard),
                    output.mark(device.rollout.state),
                )
                for device in devices
            ],
        )
    return DONE


def _csv_row(device: Device) -> tuple[Any, ...]:
    facts, rollout = device.facts, device.rollout
    return (
        *(device.id, device.hostname, facts.kind, facts.unit, device.lifecycle, device.groups, device.last_heard),
        *(rollout.state, rollout.revision),
    )


def _browser(browser: Browser) -> str:
    return f"{browser.name} {browser.version or ''}".strip() + ("" if browser.managed else " (not managed)")


def device_show(context: Context) -> int:
    with context.client() as portero:
        device = portero.devices.get(context.options.device)
    if context.options.json:
        output.print_json(device)
        return DONE
    facts, rollout = device.facts, device.rollout
    system = f"{facts.os.family} {facts.os.version or ''}".strip() if facts.os else "–"
    browsers = sentences.joined([_browser(one) for one in facts.browsers])
    every = output.span(device.usual_interval) if device.usual_interval else None
    heard = output.ago(device.last_heard) + (f", usually every {every}" if every else "")
    state = f"{rollout.state} since {output.ago(rollout.since)}; holds revision {rollout.revision or '–'}"
    if rollout.state != "current":
        state += f", should have {rollout.wanted_revision}"
    rows = [
        ("Hostname", device.hostname),
        ("Id", device.id),
        ("Lifecycle", device.lifecycle.value),
        ("Kind", facts.kind.value),
        ("Unit", facts.unit or "–"),
        ("System", system),
        ("Addresses", sentences.joined(facts.addresses) or "–"),
        ("Browsers", browsers or "–"),
        ("Filter", facts.layers.filter.value if facts.layers.filter else "not reported"),
        ("Place, zone", f"{facts.place.value if facts.place else '–'}, {facts.zone or '–'}"),
        ("Labels", sentences.joined([f"{name}: {value}" for name, value in device.labels.items()]) or "–"),
        ("Groups", ", ".join(device.groups) + "  (strongest first)"),
        ("Heard", heard),
        ("Roll-out", state + (f"; {rollout.problem}" if rollout.problem else "")),
    ]
    output.print_table(("", ""), rows)
    return DONE


def enrol_code_create(context: Context) -> int:
    options = context.options
    labels = {}
    for pair in options.label or ():
        name, equals, value = pair.partition("=")
        if not equals:
            raise CommandProblem(f"“{pair}” is no label; write it as NAME=VALUE")
        labels[name] = value
    new = NewEnrolmentCode(uses=options.uses, hours=options.hours, labels=labels)
    with context.client() as portero:
        code = portero.devices.create_enrolment_code(new)
        url = context.settings.url.value
    if options.json:
        output.print_json(code)
        return DONE
    output.say(code.code)
    uses = sentences.counted(code.uses, "machine")
    output.say(f"Good for {uses} until {code.expires_at:%Y-%m-%d %H:%M} UTC. It is shown this once.")
    output.say(f"On the machine: portero-endpoint join --service {url} --code {code.code}")
    return DONE


# --- groups ---


def group_list(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        groups = list(portero.groups.list())
    if options.json:
        output.print_json(groups)
    elif options.csv:
        names = ("precedence", "key", "name", "devices", "members")
        output.print_csv(names, ((g.precedence, g.key, g.name, g.devices, g.sentence) for g in groups))
    else:
        rows = [(str(g.precedence), g.key, g.name, str(g.devices), g.sentence) for g in groups]
        output.print_table(("", "GROUP", "NAME", "MACHINES", "HOLDS"), rows, right=(0, 3))
    return DONE


def group_show(context: Context) -> int:
    key = context.options.group
    with context.client() as portero:
        group = portero.groups.get(key)
        assignments = list(portero.assignments.list(group=key))
    if context.options.json:
        output.print_json({"group": group, "assignments": assignments})
        return DONE
    output.say(f"{group.name} ({group.key}), number {group.precedence} in precedence")
    output.say(f"Holds {sentences.counted(group.devices, 'machine')}: {group.sentence}.")
    for assignment in assignments:
        output.say(f"{assignment.key}: {assignment.sentence}", indent=2)
    if not assignments:
        output.say(f"Nothing is assigned to it yet: portero assign RULESET --to {group.key}")
    return DONE


def _condition(text: str) -> dict[str, Any]:
    parts = text.split(None, 2)
    if len(parts) != 3:
        raise CommandProblem(f"“{text}” is no condition; write it as “FIELD OP VALUE”, as in “kind is kiosk”")
    field, op, value = parts
    return {"field": field, "op": op, "value": value.split(",") if op == "one_of" else value}


def group_create(context: Context) -> int:
    options = context.options
    parts = {"all": options.where, "any": options.any, "none": options.none}
    given = {name: [_condition(text) for text in texts] for name, texts in parts.items() if texts}
    members = MembershipRule.model_validate(given) if given else None
    group = Group(key=options.group, name=options.name, members=members)
    with context.client() as portero:
        made = portero.groups.create(group, reason=options.reason)
    if options.json:
        output.print_json(made)
    else:
        output.say(f"Made group {made.key}; it holds {sentences.counted(made.devices, 'machine')}: {made.sentence}.")
    return DONE


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
        output.print_table(
            ("HOSTNAME", "STATE", "SINCE", "HOLDS", "SHOULD HAVE", "EXPECTED"),
            [
                (
                    device.hostname,
                    output.mark(device.rollout.state),
                    output.ago(device.rollout.since),
                    str(device.rollout.revision or "–"),
                    str(device.rollout.wanted_revision),
                    device.rollout.problem or _expected(device.rollout.expected_in),
                )
                for device in behind[: options.limit]
            ],
            right=(3, 4),
        )
    return DONE


def _expected(seconds: float | None) -> str:
    return "–" if seconds is None else f"in about {output.span(seconds)}"


def _watch(portero: Any, counts: RolloutCounts) -> int:
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
    device = commands.noun("device", "Managed machines.")
    listing = device.add("list", device_list, "List machines.", "portero device list --group ships --rollout waiting")
    listing.add_argument("--search", metavar="TEXT", help="part of the hostname or of the unit")
    listing.add_argument("--unit", help="the unit and all below it")
    listing.add_argument("--kind", help="desktop, laptop, kiosk, server, tablet, phone or other")
    listing.add_argument("--group", help="key of a group")
    listing.add_argument("--lifecycle", choices=("enrolled", "silent"))
    listing.add_argument("--rollout", choices=("current", "waiting", "failed", "silent"))
    listing.add_argument("--sort", choices=("hostname", "kind", "unit", "last_heard"))
    add_limit(listing, 1000)
    add_csv(listing)
    show = device.add("show", device_show, "Show one machine.", "portero device show tidewren-mess-02")
    show.add_argument("device", metavar="DEVICE", help="hostname or id")

    code = commands.noun("enrol-code", "Enrolment codes, by which machines join.")
    create = code.add("create", enrol_code_create, "Make an enrolment code.", "portero enrol-code create --uses 20")
    create.add_argument("--uses", type=int, default=1, help="how many machines may join with it (1)")
    create.add_argument("--hours", type=int, default=24, help="how long it is good (24)")
    create.add_argument("--label", action="append", metavar="NAME=VALUE", help="label to put on the machines")

    group = commands.noun("group", "Groups of machines.")
    listing = group.add("list", group_list, "List groups, strongest first.", "portero group list")
    add_csv(listing)
    show = group.add("show", group_show, "Show one group and what is assigned to it.", "portero group show ships")
    show.add_argument("group", metavar="GROUP", help="key of the group")
    create = group.add(
        "create",
        group_create,
        "Make a group.",
        'portero group create ships --where "unit under brackwater/ships" --none "kind is kiosk"',
    )
    create.add_argument("group", metavar="KEY", help="lower-case letters, digits, '-'")
    create.add_argument("--name", help="name for people")
    conditions = create.add_argument_group("who is in it, as “FIELD OP VALUE” (one_of takes a,b,c)")
    conditions.add_argument("--where", action="append", metavar="CONDITION", help="all of these must hold")
    conditions.add_argument("--any", action="append", metavar="CONDITION", help="at least one of these must hold")
    conditions.add_argument("--none", action="append", metavar="CONDITION", help="none of these may hold")
    add_reason(create)

    out = commands.add("rollout", rollout, "How far the newest bundles have got.", "portero rollout --watch")
    out.add_argument("--watch", action="store_true", help="follow it until every machine that answers is current")
    add_limit(out, 50)
