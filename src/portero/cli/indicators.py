"""Indicators in bulk."""

from __future__ import annotations

import argparse

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
    add_yes,
    confirmed,
    present,
    read_bytes,
    write_bytes,
)
from portero.cli.lookups import listing_aside
from portero.core import wording
from portero.core.nouns.indicator import CleanUp, ImportReport

MOST_TOLD = 12


def indicator_list(context: Context) -> int:
    """Search indicators."""
    options = context.options
    ended = {"yes": True, "no": False}.get(options.ended or "")
    with context.client() as portero:
        found = list(
            portero.indicators.search(
                options.search,
                ruleset=options.ruleset,
                origin=options.origin,
                action=options.action,
                ended=ended,
                limit=options.limit,
            )
        )
    names = ("ruleset", "feed", "selector", "action", "name", "valid_until")
    rows = ((r.ruleset, r.feed, r.selector, r.rule.action, r.rule.name, r.rule.valid_until) for r in found)

    def tell() -> None:
        if not found:
            output.say("No indicator matches.")
        else:
            shown = [
                (
                    indicator.selector,
                    output.mark(indicator.rule.action),
                    indicator.ruleset,
                    "feed" if indicator.feed else "by hand",
                    "ended"
                    if indicator.ended
                    else (f"{indicator.rule.valid_until:%Y-%m-%d}" if indicator.rule.valid_until else ""),
                    indicator.rule.name or "",
                )
                for indicator in found
            ]
            output.print_table(("SELECTOR", "ACTION", "RULESET", "ORIGIN", "UNTIL", "NAME"), shown)

    return present(context, found, tell, csv=(names, rows))


def _format_of(options: argparse.Namespace) -> str:
    return options.format or ("stix" if options.file.endswith(".json") else "csv")


def indicator_import(context: Context) -> int:
    """Weigh a file, ask, put it in."""
    options = context.options
    data, how = read_bytes(options.file), {"format": _format_of(options), "replace": options.replace}
    how |= {"action": options.action}
    with context.client() as portero:
        weighed = portero.indicators.weigh(options.ruleset, data, **how)
        if not options.json:
            _tell_report(weighed)
        if options.check:
            if options.json:
                output.print_json(weighed)
            return NOT_AS_EXPECTED if weighed.most > weighed.capacity else DONE
        question = f"Put {weighed.new + weighed.changed:,} rules into {options.ruleset}?"
        if options.file == "-" and not options.yes and not options.preview:
            raise UsageProblem("a file from standard input is put in with --yes, weighed with --check")
        if not confirmed(options, question):
            return DONE
        made = portero.indicators.put_in(options.ruleset, data, reason=options.reason, **how)
    return present(context, made, lambda: output.say(f"{made.ruleset} has them now."))


def _tell_report(report: ImportReport) -> None:
    output.say(
        f"{wording.counted(report.rules, 'rule')}: {report.new:,} new, {report.changed:,} changed,"
        f" {report.unchanged:,} there already, {report.duplicates:,} doubled in the file,"
        f" {report.ended:,} ended already."
    )
    if report.removed:
        output.say(f"{wording.counted(report.removed, 'rule')} that the file does not name would go.")
    if report.overlapping:
        output.say(f"{report.overlapping:,} overlap with what there is:")
        rows = [
            (overlap.selector, overlap.other, overlap.action, f"{overlap.ruleset}{' (feed)' if overlap.feed else ''}")
            for overlap in report.overlaps[:MOST_TOLD]
        ]
        output.print_table(("NEW", "THERE", "ACTION", "IN"), rows)
    if report.refused:
        output.say(f"{wording.counted(report.refused, 'line')} cannot be used:")
        for line in report.refused_lines[:MOST_TOLD]:
            output.say(f"line {line.line}: {line.problem}", indent=2)
    if report.set_aside:
        output.say(f"{wording.counted(report.set_aside, 'object')} cannot be expressed here, and are kept aside:")
        for aside in report.aside[:MOST_TOLD]:
            output.say(f"{aside.name}: {aside.problem}", indent=2)
    if report.files:
        hashes = wording.counted(report.files, "hash", "hashes")
        output.say(f"{hashes} of files go to the startup ruleset {report.files_ruleset}.")
    if report.hits:
        output.say(
            f"In the last 30 days they would have met {wording.counted(report.hit_hosts, 'host')} on"
            f" {wording.counted(report.hit_devices, 'machine')}, {wording.counted(report.hit_visits, 'visit')} so far:"
        )
        hits = [
            (hit.host, hit.selector, output.mark(hit.action), str(hit.devices), f"{hit.visits:,}")
            for hit in report.hits[:MOST_TOLD]
        ]
        output.print_table(("HOST", "BY", "ACTION", "MACHINES", "VISITS"), hits, right=(3, 4))
    else:
        output.say("Nothing that was visited in the last 30 days meets them.")
    output.say(f"Machines would carry up to {report.most:,} of {report.capacity:,} indicators.")
    if report.most > report.capacity:
        output.say("That is more than they may: it will be refused. Leave some out, or raise the capacity.")


def indicator_export(context: Context) -> int:
    """Write a ruleset's rules."""
    options = context.options
    with context.client() as portero:
        data, left_out = portero.indicators.export(options.ruleset, format=options.format)
    write_bytes(options.file, data)
    if options.file != "-":
        output.note(f"{options.file} has them.")
    if left_out:
        output.note(f"{wording.counted(left_out, 'rule')} cannot be expressed in STIX, and are left out.")
    return DONE


_TOO_MUCH = (
    "That is more than they may carry: what would add to it is refused, by hand and from feeds, until there is room."
    " What they carry stays in force."
)


def indicator_capacity(context: Context) -> int:
    """Say how full machines are."""
    options = context.options
    with context.client() as portero:
        if options.set is not None:
            portero.settings.change(reason=options.reason, indicator_capacity=options.set)
        found = portero.indicators.capacity()

    def tell() -> None:
        output.say(found.sentence)
        bar = round(40 * min(1.0, found.most / found.capacity))
        hand = round(bar * found.by_hand / found.most) if found.most else 0
        output.say(
            f"[{'#' * hand}{'+' * (bar - hand)}{'.' * (40 - bar)}]  # by hand {found.by_hand:,}   + from feeds"
            f" {found.by_feed:,}   . free {max(0, found.capacity - found.most):,}",
            indent=2,
        )
        output.say(f"So on {wording.counted(found.devices, 'machine')}, in {wording.joined(found.groups)}.", indent=2)
        output.say(f"{found.ending:,} end within 30 days.", indent=2)
        if found.most > found.capacity:
            output.say(_TOO_MUCH, indent=2)

    return present(context, found, tell)


def indicator_clean_up(context: Context) -> int:
    """Say what can go, ask, take it out."""
    options = context.options
    reasons = [word for word in ("ended", "duplicate", "overshadowed") if getattr(options, word)] or None
    with context.client() as portero:
        found = portero.indicators.cleanable(reasons=reasons, ruleset=options.ruleset)
        number = _number(found)
        if options.json and not options.yes:
            output.print_json(found)
            return DONE
        if not options.json:
            _tell_clean_up(found, number)
        if not number or not confirmed(options, f"Take {wording.counted(number, 'indicator')} out?"):
            return DONE
        gone = portero.indicators.clean_up(reasons=reasons, ruleset=options.ruleset, reason=options.reason)
    return present(context, gone, lambda: output.say(f"Took {wording.counted(_number(gone), 'indicator')} out."))


def _number(found: CleanUp) -> int:
    return found.ended + found.duplicate + found.overshadowed


def _tell_clean_up(found: CleanUp, number: int) -> None:
    output.say(
        f"{wording.counted(number, 'indicator')} can go without any verdict becoming another one"
        f" ({found.ended:,} ended, {found.duplicate:,} doubled, {found.overshadowed:,} overshadowed)."
    )
    rows = [(item.selector, item.ruleset, item.reason, item.by or "") for item in found.items[: 2 * MOST_TOLD]]
    if rows:
        output.print_table(("SELECTOR", "RULESET", "WHY", "BY"), rows)
    if found.from_feeds:
        output.say(f"{found.from_feeds:,} such from feeds are left to them.")


def register(commands: Commands) -> None:
    """Add this family's commands."""
    noun = commands.noun("indicator", "Indicators in bulk, over all rulesets.")
    listing = noun.add(
        "list", indicator_list, "Search indicators.", "portero indicator list --search refund --origin feed"
    )
    listing.add_argument("--search", metavar="TEXT", help="part of the selector, the name or the note")
    listing.add_argument("--ruleset", metavar="KEY", help="in this ruleset only, of whatever kind")
    listing.add_argument("--origin", choices=("hand", "feed"), help="written by hand, or brought in by a feed")
    listing.add_argument("--action", choices=("allow", "warn", "block", "log"))
    listing.add_argument("--ended", choices=("yes", "no"), help="only those that have ended, or have not")
    add_limit(listing, 100)
    add_csv(listing)
    importing = noun.add(
        "import",
        indicator_import,
        "Put a CSV file or a STIX bundle into a ruleset: says what it comes to, then asks.",
        "portero indicator import fraud-hosts new.csv --check",
    )
    importing.add_argument("ruleset", metavar="RULESET", help="key of the ruleset")
    importing.add_argument("file", metavar="FILE", help="- reads standard input")
    importing.add_argument("--format", choices=("csv", "stix"), help="told by the file's name where left out")
    importing.add_argument("--action", choices=("allow", "warn", "block", "log"), help="of rules that have none")
    importing.add_argument("--replace", action="store_true", help="take out what the file does not name")
    importing.add_argument("--check", action="store_true", help="say what it comes to, and do nothing")
    add_yes(importing)
    add_change(importing)
    export = noun.add(
        "export",
        indicator_export,
        "Write a ruleset's rules as CSV or STIX.",
        "portero indicator export fraud-hosts fraud.csv",
        json=False,
    )
    export.add_argument("ruleset", metavar="RULESET", help="key of the ruleset")
    export.add_argument("file", nargs="?", default="-", metavar="FILE", help="- writes to standard output")
    export.add_argument("--format", choices=("csv", "stix"), default="csv")
    meter = noun.add(
        "capacity",
        indicator_capacity,
        "Say how many indicators machines carry, and when that is full.",
        "portero indicator capacity",
    )
    meter.add_argument("--set", type=int, metavar="N", help="how many a machine may have to carry from now on")
    add_change(meter)
    tidy = noun.add(
        "clean-up",
        indicator_clean_up,
        "Take out what can go without any verdict becoming another one.",
        "portero indicator clean-up --ended",
    )
    tidy.add_argument("ruleset", nargs="?", metavar="RULESET", help="of this ruleset only")
    for word, what in (
        ("ended", "what has ended"),
        ("duplicate", "what is said twice"),
        ("overshadowed", "what is within others"),
    ):
        tidy.add_argument(f"--{word}", action="store_true", help=f"only {what}")
    add_yes(tidy)
    add_change(tidy)
    aside = noun.add(
        "aside",
        listing_aside(lambda portero, key: portero.indicators.aside(key)),
        "List what came with files and could not be expressed.",
        "portero indicator aside fraud-hosts",
    )
    aside.add_argument("key", metavar="RULESET", help="key of the ruleset")
