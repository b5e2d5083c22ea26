"""The audit trail: what administrators did, and what was done about them."""

from __future__ import annotations

import sys
from collections.abc import Iterable

from portero.cli import output
from portero.cli.command import DONE, NOT_AS_EXPECTED, Commands, Context, add_limit, present, read_bytes
from portero.core import wording
from portero.core.nouns.audit import AuditEntry
from portero.formats.audit import BrokenTrail, Looked, look_through


def audit_list(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        if options.json_lines:
            sys.stdout.buffer.write(portero.audit.lines(options.after))
            return DONE
        found = list(portero.audit.list(by=options.by, act=options.act, limit=options.limit))
    return present(context, found, lambda: _print_entries(found))


def _print_entries(found: list[AuditEntry]) -> None:
    rows = [
        (
            str(entry.number),
            f"{entry.at:%Y-%m-%d %H:%M}",
            entry.by or "–",
            entry.address or entry.means or "–",
            entry.act if entry.outcome == "done" else f"{entry.act}, refused",
            entry.detail or entry.about or "",
        )
        for entry in found
    ]
    output.print_table(("NO.", "AT (UTC)", "BY", "FROM", "ACT", "WHAT"), rows, right=(0,))


def audit_verify(context: Context) -> int:
    options = context.options
    if options.file is not None:
        data = read_bytes(options.file)
    else:
        with context.client() as portero:
            data = portero.audit.lines()
    try:
        looked = _looked(data.splitlines(), options.expect)
    except BrokenTrail as problem:
        told = f"Not whole: {problem}."
        present(context, {"whole": False, "problem": str(problem)}, lambda: output.say(told))
        return NOT_AS_EXPECTED

    def tell() -> None:
        entries = wording.counted(looked.entries, "entry", "entries")
        output.say(f"Whole: {entries}, {looked.first} to {looked.newest}; each follows the one before.")
        output.say(f"The newest is {looked.newest}:{looked.digest}")
        output.say("Keep that line elsewhere: with --expect it shows later whether all up to it is still the same.")

    return present(context, {"whole": True, **looked._asdict()}, tell)


def _looked(lines: Iterable[bytes], expected: str | None) -> Looked:
    """What was looked through, with the entry that was kept elsewhere where there is one. BrokenTrail."""
    kept = list(lines)
    looked = look_through(kept)
    if looked is None:
        raise BrokenTrail("there is no entry")
    if expected is not None:
        number, _, digest = expected.partition(":")
        upto = look_through(kept[: int(number) - looked.first + 1]) if number.isdigit() else None
        if upto is None or (str(upto.newest), upto.digest) != (number, digest):
            raise BrokenTrail(f"entry {number} is not there as it was kept elsewhere")
    return looked


def register(commands: Commands) -> None:
    """Add this family's commands."""
    noun = commands.noun("audit", "What administrators did, and what was done about them.")
    listing = noun.add("list", audit_list, "List the audit trail, newest first.", "portero audit list --by it-desk")
    listing.add_argument("--by", metavar="NAME", help="by this administrator")
    listing.add_argument("--act", metavar="ACT", help="one kind of act, such as signIn or createToken")
    listing.add_argument("--json-lines", action="store_true", help="all of it as JSON Lines, oldest first")
    after = "with --json-lines: only entries after that number"
    listing.add_argument("--after", type=int, default=0, metavar="N", help=after)
    add_limit(listing, 50)
    verify = noun.add(
        "verify",
        audit_verify,
        "Look the trail through: that nothing was changed or left out.",
        "portero audit verify trail.jsonl",
    )
    verify.add_argument("file", nargs="?", metavar="FILE", help="a trail as JSON Lines (the service's)")
    verify.add_argument("--expect", metavar="N:DIGEST", help="an entry that was kept elsewhere")
