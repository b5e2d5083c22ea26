"""Applications: the programs of the fleet, and what a program's file says of itself."""

from __future__ import annotations

import argparse
from contextlib import closing
from pathlib import Path

from portero.cli import output
from portero.cli.command import (
    DONE,
    FAILED,
    CommandProblem,
    Commands,
    Context,
    add_change,
    add_csv,
    add_limit,
    present,
    tell_removed,
)
from portero.client import NotFound, Portero
from portero.client.connection import fields_of
from portero.core import wording
from portero.core.nouns.application_correction import ApplicationCorrection, ApplicationCorrectionSummary
from portero.core.nouns.application_set import ApplicationSet, ApplicationSetSummary
from portero.core.nouns.catalogue import CaughtProgram
from portero.core.nouns.program import ProgramCategory, ReadProgram
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
    filters = {
        "q": options.search,
        "category": options.category,
        "new": options.new,
        "gone": options.gone,
        "known": options.known,
    }
    with context.client() as portero:
        found = list(portero.applications.list(limit=options.limit, **filters))
    names = ("id", "name", "vendor", "category", "devices", "starts", "versions", "newest", "first_seen", "last_seen")

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
                f"{one.starts:,}",
                f"{one.versions:,}",
                one.newest or "–",
                f"{one.first_seen:%Y-%m-%d}",
            )
            for one in found
        ]
        heads = ("", "PROGRAM", "VENDOR", "FOR", "MACHINES", "STARTS", "VERSIONS", "NEWEST", "FIRST SEEN")
        output.print_table(heads, rows, right=(0, 4, 5, 6))

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
        if program.starts:
            often, people = f"{program.starts:,} times", wording.counted(program.people, "person", "people")
            where = wording.counted(program.started_on, "machine")
            output.say(f"Started {often} by {people} on {where} in the last 14 days")
        if put_right := program.correction:
            told = f"machines tell {wording.joined(put_right.machines_tell) or 'nothing'}"
            why = f": {put_right.reason}" if put_right.reason else ""
            output.say(f"Corrected by {put_right.by or 'somebody'} ({told}){why}")
        rows = [
            (
                one.version or "–",
                f"{one.devices:,}",
                f"{one.starts:,}",
                f"{one.first_seen:%Y-%m-%d}",
                one.signer or "–",
                (one.sha256 or "–")[:12],
                one.file or "–",
            )
            for one in program.all_versions
        ]
        output.print_table(
            ("VERSION", "MACHINES", "STARTS", "FIRST SEEN", "SIGNER", "SHA-256", "FILE"), rows, right=(1, 2)
        )
        named = [f"{device.hostname} ({device.versions or '–'})" for device in devices]
        more = program.devices - len(devices)
        output.say(
            "On " + ", ".join(named) + (f" and {more:,} more" if more > 0 else "") if named else "On no machine."
        )

    return present(context, program, tell)


def application_started(context: Context) -> int:
    """What was started on a group's machines; taken into a set where one is named."""
    options = context.options
    with context.client() as portero:
        found = portero.applications.started(options.group, days=options.days)
        into = _take_in(portero, options, found) if options.into and found else None
    names = ("id", "name", "vendor", "category", "versions", "started_on", "people")

    def tell() -> None:
        if not found:
            output.say(f"No machine of {options.group} tells of a start in the last {options.days} days.")
            return
        rows = [
            (
                one.name,
                one.vendor or "–",
                one.category or "–",
                ", ".join(one.versions) or "–",
                f"{one.started_on:,}",
                f"{one.people:,}",
            )
            for one in found
        ]
        heads = ("STARTED", "VENDOR", "FOR", "VERSIONS", "MACHINES", "PEOPLE")
        output.print_table(heads, rows, right=(4, 5))
        if into is not None:
            output.say(f"{into.key}: {into.sentence}")

    cells = ([" ".join(one.versions) if name == "versions" else getattr(one, name) for name in names] for one in found)
    return present(context, found, tell, csv=(names, cells))


def _take_in(portero: Portero, options: argparse.Namespace, found: list[CaughtProgram]) -> ApplicationSetSummary:
    """The set with a condition for each program that it does not name yet."""
    try:
        seen: ApplicationSetSummary | None = portero.application_sets.get(options.into)
    except NotFound:
        seen = None
    if seen is None:
        new = ApplicationSet(key=options.into, include=tuple(one.condition for one in found))
        return portero.application_sets.create(new, reason=options.reason)
    more = tuple(one.condition for one in found if one.condition not in seen.include)
    changed = ApplicationSet.model_validate({**fields_of(seen, ApplicationSet), "include": (*seen.include, *more)})
    return portero.application_sets.put(changed, version=seen.version, reason=options.reason)


def application_correct(context: Context) -> int:
    """Say what a program is for, in place of what machines tell; or let what they tell count again."""
    options = context.options
    with context.client() as portero:
        wanted = options.application.casefold()
        seen = next((one for one in portero.application_corrections.list() if one.product.casefold() == wanted), None)
        if options.undo:
            if seen is None:
                raise CommandProblem(f"“{options.application}” is not corrected; see: portero application corrections")
            portero.application_corrections.remove(seen.product, version=seen.version, reason=options.reason)
            tell_removed(context, seen.product, "the correction of")
            return DONE
        if options.category is None:
            raise CommandProblem("say what the program is for by --category, or take its correction back by --undo")
        correction = ApplicationCorrection(
            product=seen.product if seen else options.application, category=options.category, reason=options.reason
        )
        made = portero.application_corrections.put(correction, version=seen.version if seen else None)
    told = wording.joined(made.machines_tell) or "nothing"
    return present(context, made, lambda: output.say(f"{made.product}: {made.category}; machines tell {told}."))


def application_corrections(context: Context) -> int:
    """What programs are for, put right."""
    with context.client() as portero:
        found = list(portero.application_corrections.list(q=context.options.search))
    names = ("product", "category", "machines_tell", "by", "at", "reason")

    def tell() -> None:
        if not found:
            output.say('Nothing is corrected: portero application correct "Chart Table" --category office --reason …')
            return
        rows = [
            (
                one.product,
                one.category,
                " ".join(one.machines_tell) or "–",
                one.by or "",
                f"{one.at:%Y-%m-%d}" if one.at else "",
                one.reason or "",
            )
            for one in found
        ]
        output.print_table(("PRODUCT", "HERE", "MACHINES TELL", "BY", "ON", "WHY"), rows)

    def row(one: ApplicationCorrectionSummary) -> list[object]:
        return [one.product, one.category, " ".join(one.machines_tell), one.by, one.at, one.reason]

    return present(context, found, tell, csv=(names, map(row, found)))


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
    applications = commands.noun("application", "Programs, as they are on machines.", of="application correction")
    listing = applications.add(
        "list", application_list, "List the programs of the fleet.", "portero application list --category remote-access"
    )
    listing.add_argument("--search", metavar="TEXT", help="words of the name, the vendor or the category")
    listing.add_argument("--category", metavar="KEY", help="what it is for, as in remote-access")
    listing.add_argument("--new", action="store_true", help="new within a week, or in a version that is")
    listing.add_argument("--gone", action="store_true", help="those that no machine has any more")
    listing.add_argument("--known", action="store_true", help="those that a feed of programs names, and no machine has")
    add_limit(listing, 200)
    add_csv(listing)
    show = applications.add(
        "show", application_show, "Show one program, and who has it.", 'portero application show "Deckhand Viewer"'
    )
    show.add_argument("application", metavar="PROGRAM", help="its number or its name, as the list shows them")
    started = applications.add(
        "started",
        application_started,
        "List what was started on a group's machines; an allow-list is drawn up from it.",
        "portero application started --group bridge --days 30 --into bridge-programs",
    )
    started.add_argument("--group", metavar="GROUP", required=True, help="of its machines")
    started.add_argument("--days", type=int, default=14, metavar="N", help="today and so many days before (14)")
    started.add_argument("--into", metavar="SET", help="take them into this application set, made where there is none")
    add_change(started)
    add_csv(started)
    correct = applications.add(
        "correct",
        application_correct,
        "Say what a program is for, in place of what machines tell of it.",
        'portero application correct "Hawser Console" --category developer-tools --reason "Engineers build with it"',
    )
    correct.add_argument("application", metavar="PRODUCT", help="a product, whatever its case; all its versions")
    said = correct.add_mutually_exclusive_group()
    said.add_argument("--category", choices=list(ProgramCategory), metavar="KEY", help=", ".join(ProgramCategory))
    said.add_argument("--undo", action="store_true", help="let what machines tell count again")
    add_change(correct)
    corrected = applications.add(
        "corrections",
        application_corrections,
        "List what programs are for where that was put right.",
        "portero application corrections",
    )
    corrected.add_argument("--search", metavar="TEXT", help="part of the product, the category or the reason")
    add_csv(corrected)
    read = applications.add(
        "read",
        application_read,
        "Read what program files say of themselves, as machines do: no service is asked.",
        "portero application read /opt/viewer/viewer setup.exe",
    )
    read.add_argument("file", metavar="FILE", nargs="+", help="an executable of any system, or a script")
