"""Evidence: a run as a signed document; made, listed, and checked with no service."""

from __future__ import annotations

from portero.cli import output
from portero.cli.command import (
    DONE,
    CommandProblem,
    Commands,
    Context,
    add_csv,
    add_limit,
    present,
    read_bytes,
    write_bytes,
)
from portero.core import wording
from portero.core.nouns.evidence import Evidence
from portero.formats.evidence import MOST_BYTES, BadEvidence, evidence_page, open_evidence

_FIELDS = ("id", "run", "kind", "revision", "made_at", "made_by", "sha256", "sentence")
MOST_NAMED = 12


def create(context: Context) -> int:
    """Sign a run, and write the file."""
    options = context.options
    with context.client() as portero:
        made = portero.evidence.create(options.id)
        if options.out:
            write_bytes(options.out, portero.evidence.file(made.id))
        if options.page:
            write_bytes(options.page, portero.evidence.page(made.id))

    def tell() -> None:
        output.say(f"Evidence {made.id} of run {made.run}: {made.sentence}")
        output.say(f"SHA-256 of the file: {made.sha256}")
        if options.out:
            output.say(f"Written to {options.out}; check it with: portero evidence verify {options.out} --key FILE")

    return present(context, made, tell)


def list_evidence(context: Context) -> int:
    """What is kept."""
    with context.client() as portero:
        found = list(portero.evidence.list(context.options.limit))
    rows = [
        (
            str(one.id),
            f"{one.made_at:%Y-%m-%d %H:%M}",
            one.made_by,
            str(one.run),
            one.kind,
            str(one.revision),
            one.sentence,
        )
        for one in found
    ]
    headings = ("", "MADE (UTC)", "BY", "RUN", "KIND", "REVISION", "WHAT CAME OF IT")
    return present(
        context,
        found,
        lambda: output.print_table(headings, rows, right=(0, 3, 5)) if rows else output.say("No evidence is kept."),
        csv=(_FIELDS, [[getattr(one, name) for name in _FIELDS] for one in found]),
    )


def take(context: Context) -> int:
    """A signed file, or the page that is made of it."""
    options = context.options
    with context.client() as portero:
        write_bytes(options.out, portero.evidence.file(options.id))
        if options.page:
            write_bytes(options.page, portero.evidence.page(options.id))
    return DONE


def key(context: Context) -> int:
    """The key by which evidence is checked."""
    with context.client() as portero:
        write_bytes(context.options.out, portero.evidence.key())
    return DONE


def verify(context: Context) -> int:
    """Whether a file is what the service signed; and what it says."""
    options = context.options
    data, pem = read_bytes(options.file), read_bytes(options.key)
    if len(data) > MOST_BYTES:
        raise CommandProblem(f"{options.file} is larger than evidence is")
    try:
        found = open_evidence(data.decode("ascii"), pem.decode("ascii"))
    except UnicodeDecodeError as problem:
        raise CommandProblem(f"{options.file}: it is no evidence, or {options.key} is no key") from problem
    except BadEvidence as problem:
        raise CommandProblem(f"{options.file}: {problem}") from problem
    if options.page:
        write_bytes(options.page, evidence_page(found).encode())
    return present(context, found, lambda: _tell(found))


def _tell(found: Evidence) -> None:
    run = found.run
    output.say("The signature is good: nothing in it was altered.")
    output.say(f"{found.estate}, run {run.id} ({run.kind}) of {run.at:%Y-%m-%d %H:%M:%S} UTC, asked for by {run.by}.")
    output.say(f"Revision {run.revision}, SHA-256 of its document {found.policy}")
    output.say(f"Made {found.made_at:%Y-%m-%d %H:%M:%S} UTC by {found.made_by}; key {found.key}")
    output.say(run.sentence)
    for one in found.results:
        output.say(f"{one.set} {one.number}: {one.tried}: {one.sentence}", indent=2)
    if found.unreached:
        named = ", ".join(found.unreached[:MOST_NAMED])
        more = wording.and_more(named, max(0, len(found.unreached) - MOST_NAMED))
        output.say(f"Not reached: {more}.")


def never(context: Context) -> int:
    """The machines that never have tried a probe."""
    with context.client() as portero:
        found = portero.evidence.never_observed(limit=context.options.limit)

    def tell() -> None:
        output.say(found.sentence)
        for name in found.items:
            output.say(name, indent=2)
        if found.total > len(found.items):
            output.say(f"and {found.total - len(found.items):,} more; --limit lists more of them.")

    return present(context, found, tell)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    noun = commands.noun("evidence", "Signed documents of runs, which are checked with no service.")
    making = noun.add("create", create, "Sign a run that has ended.", "portero evidence create 12 --out evidence.jws")
    making.add_argument("id", type=int, metavar="RUN", help="its number, as “portero run list” gives it")
    making.add_argument("--out", metavar="FILE", help="also write the signed file")
    listing = noun.add("list", list_evidence, "List what evidence is kept, the newest first.", "portero evidence list")
    add_limit(listing, 50)
    add_csv(listing)
    taking = noun.add(
        "take",
        take,
        "Write a signed file.",
        "portero evidence take 3 --out run-12.jws --page run-12.html",
        json=False,
    )
    taking.add_argument("id", type=int, metavar="EVIDENCE", help="its number, as “portero evidence list” gives it")
    taking.add_argument("--out", default="-", metavar="FILE", help="where to write it (standard output)")
    keys = noun.add(
        "key",
        key,
        "Write the key by which evidence is checked.",
        "portero evidence key --out service.pem",
        json=False,
    )
    keys.add_argument("--out", default="-", metavar="FILE", help="where to write it (standard output)")
    checking = noun.add(
        "verify",
        verify,
        "Check a signed file with no service, and say what it says. Exits 1 where something in it was altered.",
        "portero evidence verify evidence.jws --key service.pem",
        service=False,
    )
    checking.add_argument("file", metavar="FILE", help="the signed file; - reads standard input")
    checking.add_argument("--key", required=True, metavar="PEM", help="the key, as “portero evidence key” gives it")
    for made in (making, taking, checking):
        made.add_argument("--page", metavar="FILE", help="also write the page that is read and printed, as HTML")
    lacking = noun.add(
        "never-observed", never, "List the machines that never have tried a probe.", "portero evidence never-observed"
    )
    add_limit(lacking, 40)
