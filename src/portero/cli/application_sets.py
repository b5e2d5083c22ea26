"""Application sets: named sets of programs."""

from __future__ import annotations

import argparse
from typing import Any

from portero.cli import output
from portero.cli.command import Commands, UsageProblem, add_change
from portero.cli.family import NounFamily, given_in
from portero.core import wording
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.membership import read_item


def _condition(text: str) -> dict[str, Any]:
    try:
        return read_item(text)
    except ValueError as problem:
        raise UsageProblem(str(problem)) from problem


def _set_values(options: argparse.Namespace, before: dict[str, Any]) -> dict[str, Any]:
    values = given_in(options, "name")
    for name in ("include", "exclude"):
        if getattr(options, name):
            values[name] = [_condition(text) for text in getattr(options, name)]
    if options.freeze:
        values |= {"following": False, "frozen_members": None}
    elif options.follow or not before.get("following", True):
        values |= {"following": options.follow, "frozen_members": None if options.follow else before["frozen_members"]}
    return values


def _tell_set(application_set: Any) -> None:
    output.say(f"{application_set.name} ({application_set.key}): {application_set.sentence}")
    for member in application_set.frozen_members or ():
        output.say(member if isinstance(member, str) else _described(member), indent=2)
    if application_set.rulesets:
        output.say(f"Named by {wording.joined(application_set.rulesets)}", indent=2)


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
    family.add_show(verbs, family.show(_tell_set), "remote-control")
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
    how = put.add_mutually_exclusive_group()
    how.add_argument("--freeze", action="store_true", help="hold what machines have now, and nothing later")
    how.add_argument("--follow", action="store_true", help="take in what is found later")
    add_change(put)
    family.add_remove(verbs, family.remove(), "remote-control")
