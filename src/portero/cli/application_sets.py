"""Application sets: named sets of programs."""

from __future__ import annotations

import argparse
from collections.abc import Iterable, Iterator, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

from portero.cli import output
from portero.cli.command import CommandProblem, Commands, Context, UsageProblem, add_change, present
from portero.cli.family import NounFamily, given_in
from portero.client import Portero
from portero.core import sentences, wording
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.membership import read_item
from portero.formats.programs.looking import programs_below
from portero.formats.programs.reading import NotAProgram, ProgramReader

MOST_SHOWN = 30
MOST_PEOPLE = 12


def _condition(text: str) -> dict[str, Any]:
    try:
        return read_item(text)
    except ValueError as problem:
        raise UsageProblem(str(problem)) from problem


def _watched(text: str) -> dict[str, str]:
    device, colon, folder = text.partition(":")
    if not colon or not folder:
        raise UsageProblem(f"“{text[:80]}” is no folder of a machine; write it as in drop-01:/srv/unwanted")
    return {"device": device, "folder": folder}


def _set_values(options: argparse.Namespace, before: dict[str, Any]) -> dict[str, Any]:
    values = given_in(options, "name")
    for name in ("include", "exclude"):
        if getattr(options, name):
            values[name] = [_condition(text) for text in getattr(options, name)]
    if options.watch:
        values["watches"] = [_watched(text) for text in options.watch]
    if options.take_in:
        values["sets"] = options.take_in
    if options.file or options.folder or options.program:
        values["include"] = _with_named(options, values.get("include", before.get("include", ())))
    if options.freeze:
        values |= {"following": False, "frozen_members": None}
    elif options.follow or not before.get("following", True):
        values |= {"following": options.follow, "frozen_members": None if options.follow else before["frozen_members"]}
    return values


def _with_named(options: argparse.Namespace, held: Iterable[dict[str, Any]]) -> list[dict[str, Any]]:
    """The conditions, and what files, folders and products add to them; those that are new get a word."""
    conditions = [*held]
    told = [*_of_files(options.file or (), options.folder or ())]
    told += [({"product": name}, None) for name in options.program or ()]
    for condition, words in told:
        if condition not in conditions:
            conditions.append(condition)
            if words is not None:
                output.note(words)
    return conditions


def _of_files(names: Iterable[str], folders: Sequence[str]) -> Iterator[tuple[dict[str, Any], str | None]]:
    """Conditions that hold just these programs, and those in the folders: by their SHA-256. With a word about each."""
    with closing(ProgramReader()) as reader:
        for name in names:
            try:
                yield _of_file(reader, Path(name))
            except (NotAProgram, OSError) as problem:
                raise CommandProblem(str(problem)) from problem
        for path in _in_folders(folders):
            try:
                yield _of_file(reader, path)
            except (NotAProgram, OSError) as problem:
                output.note(f"! Left out: {problem}")


def _of_file(reader: ProgramReader, path: Path) -> tuple[dict[str, Any], str]:
    program = reader.read(path)
    digest = program.application.sha256
    if digest is None:
        raise NotAProgram(f"{path}: {program.problems[0]}")
    told = [value for name in ("product", "version", "vendor") if (value := getattr(program.application, name))]
    return {"sha256": digest}, f"{path}: {', '.join(told) or 'says no name'}, SHA-256 {digest[:12]}…"


def _in_folders(folders: Sequence[str]) -> list[Path]:
    for folder in folders:
        if not Path(folder).is_dir():
            raise CommandProblem(f"{folder} is no folder; a single program is named by --file")
    found = dict.fromkeys(path for path, _ in programs_below([Path(folder) for folder in folders], output.note))
    if folders and not found:
        output.note(f"There is no program in {wording.joined(folders)}.")
    return list(found)


def _tell_set(application_set: Any) -> None:
    output.say(f"{application_set.name} ({application_set.key}): {application_set.sentence}")
    for member in application_set.frozen_members or ():
        output.say(member if isinstance(member, str) else _described(member), indent=2)
    if application_set.rulesets:
        output.say(f"Named by {wording.joined(application_set.rulesets)}", indent=2)


def _tell_whole(portero: Portero, application_set: Any) -> None:
    _tell_set(application_set)
    found = portero.application_sets.catch(application_set)
    output.say(found.sentence)
    if found.programs:
        rows = [
            (
                one.name,
                one.vendor or "–",
                one.category or "–",
                ", ".join(one.versions) or "–",
                f"{one.devices:,}",
                f"{one.people:,}",
            )
            for one in found.programs[:MOST_SHOWN]
        ]
        output.print_table(("CATCHES NOW", "VENDOR", "FOR", "VERSIONS", "MACHINES", "PEOPLE"), rows, right=(4, 5))
    if found.people:
        more = found.people_in_all - len(found.people[:MOST_PEOPLE])
        named = [*found.people[:MOST_PEOPLE], *([f"{more:,} more"] if more else [])]
        output.say(f"Started in the last 14 days by {wording.joined(named)}.")
    if found.came and found.written_at is not None:
        came = [(one.name, one.versions, one.devices) for one in found.came]
        output.say(sentences.came_by_itself(came, found.written_at))


def set_show(context: Context) -> int:
    """Show a set, and what it catches on the fleet now."""
    with context.client() as portero:
        found = portero.application_sets.get(context.options.key)
        return present(context, found, lambda: _tell_whole(portero, found))


def _described(program: Any) -> str:
    given = program.model_dump(exclude_none=True)
    return ", ".join(f"{name} {value}" for name, value in given.items())


def register(commands: Commands) -> None:
    """Add this family's commands."""
    family = NounFamily(ApplicationSet)
    verbs = family.declare(commands)
    example = 'remote-control --include "category=remote-access"'
    rows = family.list(
        ("APPLICATION SET", "WHICH PROGRAMS"),
        lambda application_set: (application_set.key, application_set.sentence),
        f"There is no application set yet: portero application-set set {example}",
    )
    family.add_list(verbs, rows)
    family.add_show(verbs, set_show, "remote-control")
    put = family.add_set(
        verbs, family.set(_set_values, _tell_set), f'{example} --exclude "signer=Brackwater Ferries IT"'
    )
    put.add_argument("--name", help="name for people")
    put.add_argument(
        "--include",
        action="append",
        metavar="CONDITION",
        help="as in “product=Deckhand Viewer;version<4.2”; may be given again",
    )
    put.add_argument("--exclude", action="append", metavar="CONDITION", help="what is not held after all")
    put.add_argument("--take-in", action="append", metavar="SET", help="another set, whose programs it holds too")
    put.add_argument(
        "--program", action="append", metavar="PRODUCT", help="a product of the catalogue, in any version; likewise"
    )
    put.add_argument(
        "--file", action="append", metavar="FILE", help="this very program, by its SHA-256; may be given again"
    )
    put.add_argument(
        "--folder", action="append", metavar="FOLDER", help="each program in this folder and below it; likewise"
    )
    put.add_argument(
        "--watch",
        action="append",
        metavar="MACHINE:FOLDER",
        help="what is put into that folder of that machine becomes a member; likewise",
    )
    how = put.add_mutually_exclusive_group()
    how.add_argument("--freeze", action="store_true", help="hold what machines have now, and nothing later")
    how.add_argument("--follow", action="store_true", help="take in what is found later")
    add_change(put)
    family.add_remove(verbs, family.remove(), "remote-control")
