"""Devices, and how they join."""

from __future__ import annotations

import argparse
from typing import Any

from portero.cli import output
from portero.cli.command import (
    DONE,
    CommandProblem,
    Commands,
    Context,
    add_csv,
    add_limit,
    add_reason,
    add_yes,
    confirmed,
    present,
    read_bytes,
)
from portero.cli.progress import working
from portero.client import Invalid
from portero.core import wording
from portero.core.nouns.browser_policy import BrowserStanding, Governor
from portero.core.nouns.device import Device
from portero.core.nouns.layer import LAYERS
from portero.core.nouns.readiness import BlockerCode, Readiness


def _filters(options: argparse.Namespace) -> dict[str, Any]:
    names = ("search", "unit", "kind", "group", "lifecycle", "rollout", "blocker", "layer", "where", "sort")
    filters = {name: value for name in names if (value := getattr(options, name, None))}
    return filters | ({"descending": True} if options.descending else {})


def device_list(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        devices = list(portero.devices.list(limit=options.limit, **_filters(options)))
    names = (
        "id",
        "hostname",
        "kind",
        "unit",
        "lifecycle",
        "groups",
        "last_heard",
        "rollout",
        "revision",
        "blockers",
    )

    def tell() -> None:
        if not devices:
            output.say("No machine matches. Leave some filters out, or let machines join: portero enrol-code create")
        else:
            output.print_table(
                ("HOSTNAME", "KIND", "UNIT", "STRONGEST GROUP", "HEARD", "ROLL-OUT", "IN THE WAY"),
                [
                    (
                        device.hostname,
                        device.facts.kind.value,
                        device.facts.unit or "–",
                        device.groups[0] if device.groups else "–",
                        output.ago(device.last_heard),
                        output.mark(device.rollout.state if device.rollout else device.lifecycle.value),
                        _in_the_way(device),
                    )
                    for device in devices
                ],
            )

    return present(context, devices, tell, csv=(names, (_csv_row(device) for device in devices)))


def _in_the_way(device: Device) -> str:
    more = len(device.blockers) - 1
    return device.blockers[0] + (f" +{more}" if more else "") if device.blockers else ""


def _csv_row(device: Device) -> tuple[Any, ...]:
    facts, rollout = device.facts, device.rollout
    return (
        *(device.id, device.hostname, facts.kind, facts.unit, device.lifecycle, device.groups, device.last_heard),
        *((rollout.state, rollout.revision) if rollout else (None, None)),
        device.blockers,
    )


def device_show(context: Context) -> int:
    name = context.options.device
    with context.client() as portero:
        device = portero.devices.get(name)
        browsers = portero.devices.browsers(device.id)
        readiness = portero.devices.readiness(device.id)
        browsers = portero.devices.browsers(device.id)
        events = portero.devices.events(device.id)

    def tell() -> None:
        output.print_table(("", ""), _facts_rows(device))
        output.say()
        _tell_readiness(readiness)
        if browsers:
            output.say()
            output.print_table(("BROWSER", "GOVERNED BY", ""), [_standing(browser) for browser in browsers])
        if events:
            output.say()
            rows = [(f"{event.at:%Y-%m-%d %H:%M}", event.by, event.what, event.reason or "") for event in events[:8]]
            output.print_table(("AT (UTC)", "BY", "WHAT", "REASON"), rows)

    return present(context, {"device": device, "readiness": readiness, "browsers": browsers, "events": events}, tell)


def _facts_rows(device: Device) -> list[tuple[str, str]]:
    facts = device.facts
    system = f"{facts.os.family} {facts.os.version or ''}".strip() if facts.os else "–"
    every = output.span(device.usual_interval) if device.usual_interval else None
    heard = output.ago(device.last_heard) + (f", usually every {every}" if every else "")
    return [
        ("Hostname", device.hostname),
        ("Id", device.id),
        ("Serial", facts.serial or "–"),
        ("Signed in", ", ".join(facts.signed_in) or "–"),
        ("Lifecycle", device.lifecycle.value),
        ("Kind", facts.kind.value),
        ("Unit", facts.unit or "–"),
        ("System", system),
        ("Addresses", wording.joined(facts.addresses) or "–"),
        ("Place, zone", f"{facts.place.value if facts.place else '–'}, {facts.zone or '–'}"),
        ("Labels", wording.joined([f"{name}: {value}" for name, value in device.labels.items()]) or "–"),
        ("Groups", ", ".join(device.groups) + "  (strongest first)" if device.groups else "–"),
        ("Heard", heard),
        ("Roll-out", _rollout_words(device)),
    ]


def _standing(browser: BrowserStanding) -> tuple[str, str, str]:
    governor = "–" if browser.governed_by is Governor.NOBODY else browser.governed_by.value
    return f"{browser.name} {browser.version or ''}".strip(), governor, browser.sentence


def _rollout_words(device: Device) -> str:
    rollout = device.rollout
    if rollout is None:
        return "–"
    words = f"{rollout.state} since {output.ago(rollout.since)}; holds revision {rollout.revision or '–'}"
    if rollout.state != "current":
        words += f", should have {rollout.wanted_revision}"
    return words + (f"; {rollout.problem}" if rollout.problem else "")


def _tell_readiness(readiness: Readiness) -> None:
    rows = []
    for layer in readiness.layers:
        meant = f"{layer.meant} (by {layer.meant_by})"
        does = layer.reported.value if layer.reported else "not reported"
        rows.append((layer.layer, meant, does, layer.version or "–", "yes" if layer.enforces else "no"))
    output.print_table(("LAYER", "MEANT TO BE", "REPORTED", "VERSION", "ENFORCES"), rows)
    for blocker in readiness.blockers:
        output.say(f"! {blocker.code}: {blocker.detail} {blocker.remedy}")


def device_label(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        seen = portero.devices.get(options.device)
        labels = dict(seen.labels)
        for pair in options.labels:
            name, value = read_label(pair)
            if value:
                labels[name] = value
            else:
                labels.pop(name, None)
        changed = portero.devices.set_labels(seen.id, labels, version=seen.version, reason=options.reason)

    def tell() -> None:
        words = wording.joined([f"{name}: {value}" for name, value in changed.labels.items()]) or "no labels"
        output.say(f"{changed.hostname} has {words}; it is in {', '.join(changed.groups)}.")

    return present(context, changed, tell)


def read_label(pair: str) -> tuple[str, str]:
    """NAME=VALUE as the two. CommandProblem where it is not."""
    name, equals, value = pair.partition("=")
    if not equals:
        raise CommandProblem(f"“{pair}” is no label; write it as NAME=VALUE")
    return name, value


_DEEDS = {
    "retire": ("Retire {0}? It leaves all groups, and its credential is refused.", "Retired {0}."),
    "revoke": (
        "Revoke the credential of {0}? It hears of nothing until it joins again.",
        "{0} is refused from now on.",
    ),
    "confirm-rejoin": ("", "{0} is the machine that joined before; it has taken up its history, labels and pins."),
    "keep-apart": ("", "{0} is kept apart from the machine of the same serial."),
}


def _deed(verb: str) -> Any:
    question, done = _DEEDS[verb]

    def run(context: Context) -> int:
        options = context.options
        with context.client() as portero:
            seen = portero.devices.get(options.device)
            if question and not confirmed(options, question.format(seen.hostname)):
                return DONE
            changed = getattr(portero.devices, verb.replace("-", "_"))(seen.id, reason=options.reason)
        return present(context, changed, lambda: output.say(done.format(changed.hostname)))

    return run


def _many(codes: bool) -> Any:
    def run(context: Context) -> int:
        options = context.options
        data = read_bytes(options.file)
        with context.client() as portero, working("inviting" if codes else "recording"):
            try:
                invited = portero.enrolment.invite_csv(data, hours=getattr(options, "hours", 24), codes=codes)
            except Invalid as problem:
                raise CommandProblem(_bad_lines(options.file, problem)) from problem
            url = context.settings.url.value

        def tell() -> None:
            if codes:
                rows = (
                    (invitation.hostname, invitation.code, invitation.expires_at, f"{url}/join#{invitation.code}")
                    for invitation in invited.invitations
                )
                output.print_csv(("hostname", "code", "expires_at", "join_page"), rows)
            else:
                recorded = wording.counted(len(invited.invitations), "machine")
                output.say(f"Recorded {recorded}; they count as uncovered until they join.")

        return present(context, invited, tell)

    return run


def _bad_lines(name: str, problem: Invalid) -> str:
    """Each bad line with its number."""
    lines = []
    for error in problem.errors[:50]:
        _, line, *path = error["pointer"].split("/")
        lines.append(f"{name}, line {line}{', ' if path else ''}{'.'.join(path)}: {error['detail']}")
    return "\n".join([*lines, problem.detail])


def register(commands: Commands) -> None:
    """Add this family's commands."""
    device = commands.noun("device", "Managed machines.")
    listing = device.add(
        "list", device_list, "List machines.", 'portero device list --group ships --where "os.version below 12.4"'
    )
    listing.add_argument("--search", metavar="TEXT", help="part of hostname, unit or serial; or an id")
    listing.add_argument("--unit", help="the unit and all below it")
    listing.add_argument("--kind", help="desktop, laptop, kiosk, server, tablet, phone or other")
    listing.add_argument("--group", help="key of a group")
    listing.add_argument("--lifecycle", choices=("invited", "enrolled", "silent", "retired"))
    listing.add_argument("--rollout", choices=("current", "waiting", "failed", "silent"))
    listing.add_argument("--blocker", choices=[code.value for code in BlockerCode], metavar="CODE", help="in the way")
    listing.add_argument("--layer", choices=LAYERS, help="the layer that the blocker hinders")
    listing.add_argument("--where", action="append", metavar="CONDITION", help="“FIELD OP VALUE”; all must hold")
    listing.add_argument("--sort", default="hostname", help="hostname, kind, unit, os, place, zone, last_heard, …")
    listing.add_argument("--descending", action="store_true", help="the other way round")
    add_limit(listing, 1000)
    add_csv(listing)
    _one(device, "show", device_show, "Show one machine.", "portero device show tidewren-mess-02")
    label = _one(
        device, "label", device_label, "Put labels on a machine.", "portero device label kiosk-07 wave=first old="
    )
    label.add_argument("labels", nargs="+", metavar="NAME=VALUE", help="NAME= takes the label off")
    add_reason(label)
    for verb, summary in (
        ("retire", "Take a machine out of the fleet."),
        ("revoke", "Refuse a machine's credential from now on."),
        ("confirm-rejoin", "Recognise a machine that joined before, by its serial."),
        ("keep-apart", "Keep a machine apart from the one of the same serial."),
    ):
        made = _one(device, verb, _deed(verb), summary, f"portero device {verb} office-laptop-31")
        add_reason(made)
        if _DEEDS[verb][0]:
            add_yes(made)
    record = device.add(
        "import", _many(False), "Record machines that no endpoint runs on, from CSV.", "portero device import till.csv"
    )
    invite = device.add(
        "invite", _many(True), "Invite machines from CSV; answers with a code each.", "portero device invite new.csv"
    )
    for made in (record, invite):
        made.add_argument("file", metavar="FILE", help="CSV: hostname, kind, unit, serial, labels.NAME; - reads input")
    invite.add_argument("--hours", type=int, default=24 * 14, help="how long the codes are good (336)")


def _one(device: Commands, verb: str, run: Any, summary: str, example: str) -> argparse.ArgumentParser:
    made = device.add(verb, run, summary, example)
    made.add_argument("device", metavar="DEVICE", help="hostname or id")
    return made
