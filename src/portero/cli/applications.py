"""Applications: the programs of the fleet, and what a program's file says of itself."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path

from portero.cli import output
from portero.cli.command import DONE, FAILED, CommandProblem, Commands, Context, add_csv, add_limit, present
from portero.client import Portero
from portero.core import wording
from portero.core.nouns.program import ReadProgram
from portero.formats.programs.reading import NotAProgram, ProgramReader

MOST_MACHINES = 100
_NAMES = ("file", "product", "vendor", "version", "signer", "certificate", "category", "sha256", "path")


def application_read(context: Context) -> int:
    """Read programs at this desk; 1 where one cannot be."""
    found: list[ReadProgram] = []
    refused: list[str] = []
    with closing(ProgramReader()) as reader:
        for name in context.options.file:
            try:
                found.append(reader.read(Path(name)))
            except (NotAProgram, OSError) as problem:
                refused.append(str(problem))

    def tell() -> None:
        for program in found:
            _tell(program)
        for problem in refused:
            output.note(f"! {problem}")

    present(context, found, tell)
    return FAILED if refused else DONE


def application_list(context: Context) -> int:
    """The programs of the fleet, those on most machines first."""
    options = context.options
    filters = {"q": options.search, "category": options.category, "new": options.new, "gone": options.gone}
    with context.client() as portero:
        found = list(portero.applications.list(limit=options.limit, **filters))
    names = ("id", "name", "vendor", "category", "devices", "versions", "newest", "first_seen", "last_seen")

    def tell() -> None:
        if not found:
            output.say("No machine tells of such a program.")
            return
        rows = [
            (
                str(one.id),
                one.name,
                one.vendor or "–",
                one.category or "–",
                f"{one.devices:,}",
                f"{one.versions:,}",
                one.newest or "–",
                f"{one.first_seen:%Y-%m-%d}",
            )
            for one in found
        ]
        heads = ("", "PROGRAM", "VENDOR", "FOR", "MACHINES", "VERSIONS", "NEWEST", "FIRST SEEN")
        output.print_table(heads, rows, right=(0, 4, 5))

    return present(context, found, tell, csv=(names, ([getattr(one, name) for name in names] for one in found)))


def application_show(context: Context) -> int:
    """One program of the fleet: its versions, and the machines that have it."""
    options = context.options
    with context.client() as portero:
        program = portero.applications.get(_the_one(portero, options.application))
        devices = list(portero.applications.devices(program.id, limit=MOST_MACHINES))

    def tell() -> None:
        by = f" by {program.vendor}" if program.vendor else ""
        what = f", {program.category}" if program.category else ""
        output.say(f"{program.name}{by}{what}: on {wording.counted(program.devices, 'machine')}")
        rows = [
            (
                one.version or "–",
                f"{one.devices:,}",
                f"{one.first_seen:%Y-%m-%d}",
                one.signer or "–",
                (one.sha256 or "–")[:12],
                one.file or "–",
            )
            for one in program.all_versions
        ]
        output.print_table(("VERSION", "MACHINES", "FIRST SEEN", "SIGNER", "SHA-256", "FILE"), rows, right=(1,))
        named = [f"{device.hostname} ({device.versions or '–'})" for device in devices]
        more = program.devices - len(devices)
        output.say(
            "On " + ", ".join(named) + (f" and {more:,} more" if more > 0 else "") if named else "On no machine."
        )

    return present(context, program, tell)


def _the_one(portero: Portero, asked: str) -> int:
    """The number of a program that is named by it, or by its name."""
    if asked.isdigit():
        return int(asked)
    found = [one for one in portero.applications.list(q=asked, limit=100) if one.name.casefold() == asked.casefold()]
    if not found:
        raise CommandProblem(f"No machine tells of a program “{asked}”; see: portero application list")
    if len(found) > 1:
        told = [f"{one.id} ({one.vendor or 'no vendor'})" for one in found]
        raise CommandProblem(f"“{asked}” may be {wording.joined(told, 'or')}; say which by its number")
    return found[0].id


def _tell(program: ReadProgram) -> None:
    fields = program.application.model_dump(exclude_none=True)
    rows = [(name, str(fields[name])) for name in _NAMES if name in fields]
    rows += [("kind", program.kind.value), ("size", f"{program.size:,}")]
    rows += [(name, value) for name in ("package", "build_id") if (value := getattr(program, name))]
    output.print_table(("FIELD", "VALUE"), rows)
    for problem in program.problems:
        output.say(f"! {program.application.file}: {problem}")


def register(commands: Commands) -> None:
    """Add this family's commands."""
    applications = commands.noun("application", "Programs, as they are on machines.")
    listing = applications.add(
        "list", application_list, "List the programs of the fleet.", "portero application list --category remote-access"
    )
    listing.add_argument("--search", metavar="TEXT", help="words of the name, the vendor or the category")
    listing.add_argument("--category", metavar="KEY", help="what it is for, as in remote-access")
    listing.add_argument("--new", action="store_true", help="new within a week, or in a version that is")
    listing.add_argument("--gone", action="store_true", help="those that no machine has any more")
    add_limit(listing, 200)
    add_csv(listing)
    show = applications.add(
        "show", application_show, "Show one program, and who has it.", 'portero application show "Deckhand Viewer"'
    )
    show.add_argument("application", metavar="PROGRAM", help="its number or its name, as the list shows them")
    read = applications.add(
        "read",
        application_read,
        "Read what program files say of themselves, as machines do: no service is asked.",
        "portero application read /opt/viewer/viewer setup.exe",
    )
    read.add_argument("file", metavar="FILE", nargs="+", help="an executable of any system, or a script")
