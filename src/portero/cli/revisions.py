"""The estate's history: who changed what, when and why; and the way back."""

from __future__ import annotations

from collections.abc import Iterable

from rich.text import Text

from portero.cli import output
from portero.cli.command import (
    DONE,
    Commands,
    Context,
    add_change,
    add_csv,
    add_limit,
    add_yes,
    confirmed,
    present,
)
from portero.core import wording
from portero.core.nouns.proof import Proof
from portero.core.nouns.revision import ToldChange

MOST_CHANGES = 40


def revision_list(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        found = list(
            portero.revisions.list(
                by=options.by, noun=options.noun, key=options.key, q=options.search, limit=options.limit
            )
        )
    columns = ("number", "at", "by", "summary", "reason", "devices", "proof")

    def tell() -> None:
        rows = [
            (
                str(revision.number),
                f"{revision.at:%Y-%m-%d %H:%M}",
                revision.by,
                revision.summary,
                str(revision.devices),
                revision.proof or "",
                revision.reason or "",
            )
            for revision in found
        ]
        output.print_table(("", "AT (UTC)", "BY", "WHAT", "MACHINES", "PROOF", "REASON"), rows, right=(0, 4))

    return present(
        context, found, tell, csv=(columns, ([getattr(revision, name) for name in columns] for revision in found))
    )


def revision_show(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        found = portero.revisions.get(options.number)

    def tell() -> None:
        output.say(f"Revision {found.number}, {found.at:%Y-%m-%d %H:%M} UTC, by {found.by}: {found.summary}.")
        if found.reason:
            output.say(f"Reason: {found.reason}")
        output.say(f"{wording.counted(found.devices, 'machine')} got another bundle by it.")
        _tell_changes(found.changes, options.document)
        if found.proof is not None:
            _tell_proof(found.proof)
        for one in found.evidence:
            output.say(f"Evidence {one.id} of run {one.run}, {one.made_at:%Y-%m-%d %H:%M} UTC: {one.sentence}")

    return present(context, found, tell)


def _tell_proof(proof: Proof) -> None:
    """What its probes came to before it, and come to since."""
    last = f", and last at {proof.tried_at:%Y-%m-%d %H:%M:%S} UTC" if proof.tried_at else ""
    output.say(f"{proof.sentence} Tried at {proof.at:%Y-%m-%d %H:%M:%S} UTC before it{last}.")
    for one in proof.probes:
        line = Text("").append(output.mark(one.before.expected)).append(f"  {one.before.tried}: {one.sentence}")
        output.say(line, indent=2)
        if one.since is not None:
            output.say(f"so everywhere since {one.since:%Y-%m-%d %H:%M:%S} UTC", indent=8)


def _tell_changes(changes: Iterable[ToldChange], document: bool) -> None:
    listed = list(changes)
    for change in listed[:MOST_CHANGES]:
        output.say(wording.as_sentence(change.sentence))
        if document:
            print(change.difference)
        else:
            for detail in change.details:
                output.say(detail, indent=2)
    if len(listed) > MOST_CHANGES:
        output.say(f"and {len(listed) - MOST_CHANGES:,} more changes; --json lists them all.")


def revision_compare(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        found = portero.revisions.compare(options.number, options.other)

    def tell() -> None:
        if not found.changes:
            output.say(f"Revisions {found.from_} and {found.to} say the same.")
        else:
            output.say(f"From revision {found.from_} to {found.to}: {wording.counted(len(found.changes), 'change')}.")
            _tell_changes(found.changes, options.document)

    return present(context, found, tell)


def revision_restore(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        if not options.preview and not options.yes:
            seen = portero.revisions.compare(options.number)
            output.say(f"Undoes: {seen.summary}.")
        if not confirmed(options, f"Make the estate what it was at revision {options.number}?"):
            return DONE
        made = portero.revisions.restore(options.number, reason=options.reason)

    def tell() -> None:
        output.say(f"Revision {made.number}: the estate is as it was at revision {options.number}.")
        output.say(f"{wording.counted(made.devices, 'machine')} to follow; see portero rollout --watch")

    return present(context, made, tell)


def governing(context: Context) -> int:
    with context.client() as portero:
        found = portero.revisions.governing(context.options.device)

    def tell() -> None:
        rows = [
            (
                str(change.revision),
                f"{change.at:%Y-%m-%d %H:%M}",
                change.by,
                f"{change.noun} {change.key}",
                change.because,
                change.reason or "",
            )
            for change in found
        ]
        output.print_table(("", "AT (UTC)", "BY", "LAST CHANGED", "GOVERNS", "REASON"), rows, right=(0,))

    return present(context, found, tell)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    revision = commands.noun("revision", "The estate's history.")
    listing = revision.add(
        "list", revision_list, "List revisions, newest first.", "portero revision list --noun assignment --limit 10"
    )
    listing.add_argument("--by", metavar="NAME", help="made by this administrator")
    listing.add_argument("--noun", metavar="NOUN", help="about this noun, such as ruleset or “application set”")
    listing.add_argument("--key", metavar="KEY", help="about the object of this key")
    listing.add_argument("--search", metavar="TEXT", help="with this text in summary or reason")
    add_limit(listing, 30)
    add_csv(listing)
    show = revision.add("show", revision_show, "Show one revision, change by change.", "portero revision show 12")
    compare = revision.add(
        "compare",
        revision_compare,
        "Say what differs between two revisions.",
        "portero revision compare 12 20 --document",
    )
    restore = revision.add(
        "restore",
        revision_restore,
        "Make the estate what it was at a revision, as a new one.",
        "portero revision restore 12 --preview",
    )
    for made in (show, compare, restore):
        made.add_argument("number", type=int, metavar="NUMBER", help="the revision's number")
    compare.add_argument("other", type=int, nargs="?", metavar="OTHER", help="the later one; without it the newest")
    for made in (show, compare):
        made.add_argument("--document", action="store_true", help="as differences of documents, in place of sentences")
    add_yes(restore)
    add_change(restore)
    governs = commands.add(
        "governing",
        governing,
        "Say who last changed what governs a machine.",
        "portero governing eastquay-kiosk-01",
    )
    governs.add_argument("device", metavar="DEVICE", help="hostname or id")
