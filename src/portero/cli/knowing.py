"""Questions: the verdict on a visit, what a machine blocks, activity, revisions."""

from __future__ import annotations

import argparse
import sys
import time
from datetime import UTC, datetime, timedelta

from rich.text import Text

from portero.cli import output
from portero.cli.command import (
    DONE,
    NOT_AS_EXPECTED,
    CommandProblem,
    Commands,
    Context,
    add_csv,
    add_limit,
    read_bytes,
)
from portero.core import sentences
from portero.core.insight.offline import OfflineEstate, UnknownDevice
from portero.core.matching.categories import EMPTY_INDEX
from portero.core.nouns.activity import Activity
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.urls import BadUrl
from portero.core.nouns.verdict import Explanation, LayerVerdict
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.formats.category_index import read_index
from portero.formats.estate_document import read_estate, read_facts
from portero.formats.places import BadDocument


def _offline(options: argparse.Namespace) -> OfflineEstate:
    if not options.facts:
        raise CommandProblem("--estate needs --facts FILE too: the devices that attempts are made on")
    reading = options.estate
    try:
        estate = read_estate(read_bytes(options.estate))
        reading = options.facts
        facts = read_facts(read_bytes(options.facts))
        reading = options.index
        index = read_index(read_bytes(options.index)) if options.index else EMPTY_INDEX
    except BadDocument as problem:
        lines = [f"{reading}: {one}" for one in problem.problems[:20]]
        if len(problem.problems) > 20:
            lines.append(f"{reading}: and {len(problem.problems) - 20} more")
        raise CommandProblem("\n".join(lines)) from problem
    return OfflineEstate(estate, facts, index, datetime.now(UTC))


def check_visit(context: Context) -> int:
    options = context.options
    attempt = Attempt(
        device=options.device,
        user=options.user,
        browser=options.browser,
        url=options.target,
        at=options.at or datetime.now(UTC).replace(microsecond=0),
        place=options.place,
    )
    if options.estate or options.facts or options.index:
        if not options.estate:
            raise CommandProblem("--facts and --index go with --estate FILE")
        try:
            explanation = _offline(options).explain(attempt)
        except (UnknownDevice, BadUrl) as problem:
            raise CommandProblem(str(problem)) from problem
    else:
        with context.client() as portero:
            explanation = portero.check_visit(attempt)
    if options.json:
        output.print_json(explanation)
    else:
        _tell(explanation)
    return DONE if explanation.gap == "none" else NOT_AS_EXPECTED


def _tell(explanation: Explanation) -> None:
    names = sentences.joined([TAXONOMY.categories[key].name for key in explanation.categories])
    entry = explanation.category_entry
    by = f", by the entry for {entry}" if entry and entry != explanation.host else ""
    output.say(f"{explanation.host} is in {names}{by}.")
    intended, effective = explanation.intended, explanation.effective
    line = Text("Intended ").append(output.mark(intended.verdict)).append(", effective ")
    output.say(
        line.append(output.mark(effective.verdict)).append("" if explanation.gap == "none" else _gap(explanation))
    )
    for layer in intended.layers:
        _tell_layer(layer)
    for caveat in effective.caveats:
        output.say(f"! {caveat.code}: {caveat.detail} {caveat.remedy}", indent=2)
    if explanation.revision is not None:
        held = "holds it" if explanation.bundle == explanation.applied_bundle else "does not hold its newest bundle"
        output.say(f"Revision {explanation.revision}; the machine {held}.")


def _gap(explanation: Explanation) -> str:
    words = {"looser": "meant to be stopped, and is not", "stricter": "stopped, and not meant to be"}
    return f": a gap, {words[explanation.gap]}"


def _tell_layer(layer: LayerVerdict) -> None:
    output.say(f"{layer.layer}: {layer.why}", indent=2)
    if layer.winner:
        strong = ", mandatory" if layer.winner.mandatory else ""
        named = f"{layer.winner.ruleset} on {layer.winner.target}: {layer.winner.selector}{strong}"
        output.say(Text("wins  ").append(output.mark(layer.winner.action)).append(f"  {named}"), indent=4)
    for lost in layer.lost:
        named = f"{lost.ruleset} on {lost.target}: {lost.selector}"
        output.say(Text("lost  ").append(output.mark(lost.action)).append(f"  {named}"), indent=4)
        output.say(f"on {lost.rung}: {lost.why}", indent=10)
    for logged in layer.logged:
        named = f"{logged.ruleset} on {logged.target}: {logged.selector}, recorded"
        output.say(Text("      ").append(output.mark("log")).append(f"  {named}"), indent=4)


def blocks(context: Context) -> int:
    with context.client() as portero:
        found = portero.devices.blocks(context.options.device)
    if context.options.json:
        output.print_json(found)
    else:
        rows = []
        for row in found.categories:
            word = "log" if row.intended.verdict == "allow" and row.intended.logged else row.intended.verdict.value
            winner = row.intended.winner
            why = f"{winner.ruleset} on {winner.target}" + (", mandatory" if winner.mandatory else "") if winner else ""
            if not winner and row.intended.logged:
                why = f"recorded by {row.intended.logged[0].ruleset} on {row.intended.logged[0].target}"
            effective = row.effective.verdict if row.gap != "none" else word
            rows.append(
                (row.name, output.mark(word), output.mark(effective), row.gap if row.gap != "none" else "", why)
            )
        output.print_table(("CATEGORY", "INTENDED", "EFFECTIVE", "GAP", "BECAUSE OF"), rows)
        output.say(f"No rule names the other {sentences.counted(found.undecided, 'category', 'categories')}.")
        for caveat in found.caveats:
            output.say(f"! {caveat.code}: {caveat.detail} {caveat.remedy}")
    return NOT_AS_EXPECTED if any(row.gap != "none" for row in found.categories) else DONE


# --- activity and revisions ---


def activity_list(context: Context) -> int:
    options = context.options
    names = ("device", "host", "verdict", "user", "reference")
    filters = {name: value for name in names if (value := getattr(options, name))}
    if options.tests:
        filters["tests"] = True
    with context.client() as portero:
        found = list(portero.activity(limit=options.limit, **filters))
        if options.json:
            output.print_json(found)
        elif options.csv:
            columns = ("at", "hostname", "user", "verdict", "url", "categories", "continued", "logged", "reference")
            output.print_csv(columns, ([getattr(one, name) for name in columns] for one in found))
        elif not found and not options.watch:
            output.say("Nothing of the kind was reported.")
        else:
            _print_activity(found)
        if options.watch:
            _follow(portero, found, filters)
    return DONE


def _print_activity(found: list[Activity]) -> None:
    rows = []
    for one in found:
        winner = one.winner
        because = winner.ruleset if winner else ""
        word = "log" if one.verdict == "allow" and one.logged else one.verdict.value
        rows.append(
            (
                f"{one.at:%H:%M:%S}" if datetime.now(UTC) - one.at < timedelta(hours=12) else f"{one.at:%m-%d %H:%M}",
                output.cut(one.hostname, 18),
                output.cut(one.user or "–", 12),
                output.mark(word),
                output.cut(one.host, 22),
                output.cut(because, 12),
                one.reference or "",
            )
        )
    headings = ("AT (UTC)", "MACHINE", "PERSON", "VERDICT", "HOST", "RULESET", "REFERENCE")
    output.print_table(headings, rows)


def _follow(portero: object, seen: list[Activity], filters: dict[str, object]) -> None:
    known = {(one.device, one.seq) for one in seen}
    try:
        while True:
            time.sleep(1)
            newest = list(portero.activity(limit=50, **filters))  # type: ignore[attr-defined]
            fresh = [one for one in newest if (one.device, one.seq) not in known]
            if fresh:
                _print_activity(fresh)
                known |= {(one.device, one.seq) for one in fresh}
    except KeyboardInterrupt:
        print(file=sys.stderr)


def revision_list(context: Context) -> int:
    with context.client() as portero:
        found = list(portero.revisions.list(limit=context.options.limit))
    if context.options.json:
        output.print_json(found)
    elif context.options.csv:
        columns = ("number", "at", "by", "summary", "reason", "devices")
        output.print_csv(columns, ([getattr(one, name) for name in columns] for one in found))
    else:
        rows = [
            (str(one.number), f"{one.at:%Y-%m-%d %H:%M}", one.by, one.summary, str(one.devices), one.reason or "")
            for one in found
        ]
        output.print_table(("", "AT (UTC)", "BY", "WHAT", "MACHINES", "REASON"), rows, right=(0, 4))
    return DONE


def register(commands: Commands) -> None:
    """Add this family's commands."""
    check = commands.noun("check", "The verdict on an attempt, with its reasons.")
    visit = check.add(
        "visit",
        check_visit,
        "Say what happens to a visit on a machine, and why. Exits 3 where there is a gap.",
        "portero check visit tidewren-mess-02 https://reeltide.example/",
    )
    visit.add_argument("device", metavar="DEVICE", help="hostname or id")
    visit.add_argument("target", metavar="URL", help="a URL or a host")
    visit.add_argument("--user", help="who visits")
    visit.add_argument("--browser", help="with which browser")
    visit.add_argument("--at", type=datetime.fromisoformat, metavar="TIME", help="when, as in 2026-12-02T10:00:00Z")
    visit.add_argument("--place", choices=("on-site", "off-site"))
    offline = visit.add_argument_group("without a service")
    offline.add_argument("--estate", metavar="FILE", help="estate document, YAML or JSON; - reads standard input")
    offline.add_argument("--facts", metavar="FILE", help="facts document of the devices")
    offline.add_argument("--index", metavar="FILE", help="category index as CSV: host, categories")

    block = commands.add(
        "blocks", blocks, "What a machine will block. Exits 3 where there is a gap.", "portero blocks eastquay-kiosk-01"
    )
    block.add_argument("device", metavar="DEVICE", help="hostname or id")

    activity = commands.noun("activity", "The attempts that machines reported.")
    listing = activity.add(
        "list", activity_list, "List reported attempts, newest first.", "portero activity list --verdict block --watch"
    )
    listing.add_argument("--device", help="on this machine only")
    listing.add_argument("--host", help="part of the host")
    listing.add_argument("--verdict", choices=("allow", "warn", "block"))
    listing.add_argument("--user", help="by this person only")
    listing.add_argument("--reference", metavar="CODE", help="the code on a notice")
    listing.add_argument("--tests", action="store_true", help="with visits to test hosts")
    listing.add_argument("--watch", action="store_true", help="go on with what comes in")
    add_limit(listing, 50)
    add_csv(listing)

    revision = commands.noun("revision", "The estate's history.")
    listing = revision.add("list", revision_list, "List revisions, newest first.", "portero revision list --limit 10")
    add_limit(listing, 30)
    add_csv(listing)
