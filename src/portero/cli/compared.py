"""One attempt in several places side by side: all groups, two machines, a person's machines, now and earlier."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence

from rich.text import Text

from portero.cli import output
from portero.cli.checks import programs_on, tried_of
from portero.cli.command import Commands, Context, present
from portero.cli.moments import Moments
from portero.client import Portero
from portero.core.nouns.action import Verdict
from portero.core.nouns.compared import AttemptAnywhere, Differing, GroupVerdicts, MachineVerdict
from portero.core.nouns.moments import WAYS


def _tried(context: Context, portero: Portero, device: str | None = None) -> AttemptAnywhere:
    """The visit, or the start, that the word means; of a program with what the machine tells of it."""
    options = context.options
    installed = programs_on(portero, options, device) if device is not None else ()
    at = {"at": Moments(portero).read("--at", options.at)} if options.at else {}
    return AttemptAnywhere.model_validate({**tried_of(options, installed), **at})


def groups(context: Context) -> int:
    """What all machines would do, group by group."""
    with context.client() as portero:
        found = portero.compared.groups(_tried(context, portero))
    rows = [
        (one.group, f"{one.devices:,}", *(f"{one.effective.get(verdict, 0) or '–'}" for verdict in Verdict), _gap(one))
        for one in found.items
    ]
    headings = ("GROUP", "MACHINES", *(verdict.value.upper() for verdict in Verdict), "MEANT OTHERWISE")
    return present(context, found, lambda: output.print_table(headings, rows, right=(1, 2, 3, 4)))


def _gap(one: GroupVerdicts) -> str:
    """What more machines are meant to do than would."""
    lacking = {verdict: meant - one.effective.get(verdict, 0) for verdict, meant in one.intended.items()}
    return ", ".join(f"{number:,} to {verdict}" for verdict, number in lacking.items() if number > 0)


def machines(context: Context) -> int:
    """Two machines side by side."""
    options = context.options
    with context.client() as portero:
        found = portero.compared.machines(_tried(context, portero, options.first), options.first, options.second)

    def tell() -> None:
        output.say(found.sentence)
        _tell_verdicts([found.first, found.second])
        _tell_differing(found.differing, found.first.device.upper(), found.second.device.upper())

    return present(context, found, tell)


def person(context: Context) -> int:
    """A person's machines."""
    with context.client() as portero:
        found = portero.compared.person(_tried(context, portero))
    nobody = f"No machine tells that {context.options.user} is signed in there."
    return present(context, found, lambda: _tell_verdicts(found.items) if found.items else output.say(nobody))


def earlier(context: Context) -> int:
    """Now and earlier."""
    options = context.options
    with context.client() as portero:
        then = Moments(portero).read("--then", options.then) if options.then else None
        tried = _tried(context, portero, options.device)
        found = portero.compared.earlier(tried, options.device, then=then, revision=options.revision)

    def tell() -> None:
        output.say(found.sentence)
        when = f"{found.earlier_at:%Y-%m-%d %H:%M} UTC" if found.earlier_at else "as it is now"
        for word, told, about in (
            ("now", found.now, f"revision {found.revision}"),
            ("then", found.earlier, f"revision {found.earlier_revision}, {when}"),
        ):
            line = Text(f"{word:<6}").append(output.mark(told.effective)).append(f"  {about}: {told.why}")
            output.say(line, indent=2)
        _tell_differing(found.differing, "NOW", "THEN")

    return present(context, found, tell)


def _tell_differing(differing: Sequence[Differing], first: str, second: str) -> None:
    rows = [
        (one.what, one.first, one.second, Text("decides" if one.decides else "", style="bold")) for one in differing
    ]
    if rows:
        output.print_table(("DIFFERING", first, second, ""), rows)


def _tell_verdicts(items: tuple[MachineVerdict, ...] | list[MachineVerdict]) -> None:
    rows = [(one.device, output.mark(one.intended), output.mark(one.effective), one.why) for one in items]
    output.print_table(("MACHINE", "INTENDED", "EFFECTIVE", "WHY"), rows)


# --- declaring ---


def register(commands: Commands) -> None:
    """Add this family's commands."""
    noun = commands.noun("compare", "One attempt in several places side by side.")

    def add(
        name: str, run: Callable[[Context], int], summary: str, example: str, *places: tuple[str, str]
    ) -> argparse.ArgumentParser:
        parser = noun.add(name, run, summary, example)
        for place, metavar in places:
            parser.add_argument(place, metavar=metavar, help="hostname or id")
        parser.add_argument("what", metavar="WHAT", help="a URL or a host, program:NAME, or a program's SHA-256")
        parser.add_argument("--at", metavar="TIME", help=f"when: {WAYS} (now)")
        parser.add_argument("--place", choices=("on-site", "off-site"), help="where the machines are")
        parser.add_argument("--browser", help="with which browser")
        parser.add_argument("--version", help="the program's version")
        if name != "person":
            parser.add_argument("--user", help="who tries it")
        return parser

    url = "https://reeltide.example/"
    add("groups", groups, "Say what all machines would do, group by group.", f"portero compare groups {url}")
    add(
        "machines",
        machines,
        "Say what two machines would do, and what of their differences decides.",
        f"portero compare machines tidewren-mess-02 eastquay-desk-01 {url}",
        *(("first", "MACHINE"), ("second", "OTHER")),
    )
    of_person = add(
        "person",
        person,
        "Say what the machines on which a person is signed in would do.",
        f"portero compare person {url} --user watch-2",
    )
    of_person.add_argument("--user", required=True, help="whose machines")
    before = add(
        "earlier",
        earlier,
        "Say what a machine does now, what it would have done earlier, and what of the differences decides.",
        f"portero compare earlier tidewren-mess-02 {url} --then '2026-12-01 09:12'",
        ("device", "MACHINE"),
    )
    when = before.add_mutually_exclusive_group(required=True)
    when.add_argument("--then", metavar="TIME", help=f"by the revision and the facts of then: {WAYS}")
    when.add_argument("--revision", type=int, metavar="N", help="by an earlier revision, on the machine as it is now")
