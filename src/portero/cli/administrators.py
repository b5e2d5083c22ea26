"""Administrators: who may use the service, and how much each may."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from types import ModuleType
from typing import get_args

from portero.cli import output
from portero.cli.command import (
    DONE,
    CommandProblem,
    Commands,
    Context,
    add_yes,
    confirmed,
    present,
    tell_removed,
)
from portero.cli.passwords import add_password_stdin, own_session
from portero.client import Portero
from portero.core.nouns.access import Role
from portero.core.nouns.administrator import (
    Administrator,
    AdministratorChange,
    MadeAdministrator,
    NewAdministrator,
)


def administrator_list(context: Context) -> int:
    with context.client() as portero:
        found = portero.administrators.list()
    return present(context, found, lambda: _print_administrators(found))


def _print_administrators(found: list[Administrator]) -> None:
    rows = [
        (
            one.name,
            one.role,
            "yes" if one.sees_names else "no",
            "yes" if one.probes_freely else "no",
            _state(one),
            output.ago(one.last_seen) if one.last_seen else "–",
            one.note or "",
        )
        for one in found
    ]
    output.print_table(("NAME", "ROLE", "SEES NAMES", "PROBES FREELY", "STATE", "LAST SEEN", "NOTE"), rows)


def _state(one: Administrator) -> str:
    if one.disabled:
        return "disabled"
    return f"first password until {one.first_password_until:%m-%d}" if one.first_password_until else "–"


def administrator_add(context: Context) -> int:
    options = context.options
    new = NewAdministrator(
        name=options.name,
        role=options.role,
        sees_names=options.sees_names == "yes",
        probes_freely=options.probes_freely == "yes",
        note=options.note,
    )
    return _give_first_password(
        context,
        "Made",
        at_machine=lambda machine: machine.add(options.data, new),
        in_session=lambda portero: portero.administrators.add(new),
    )


def administrator_reset(context: Context) -> int:
    options, name = context.options, context.options.name.lower()
    return _give_first_password(
        context,
        "Reset",
        at_machine=lambda machine: machine.reset(options.data, name),
        in_session=lambda portero: portero.administrators.reset(name),
    )


def _give_first_password(
    context: Context,
    done: str,
    *,
    at_machine: Callable[[ModuleType], MadeAdministrator],
    in_session: Callable[[Portero], MadeAdministrator],
) -> int:
    """Make a first password: at the service's own machine where its folder is named, else in a session."""
    if context.options.data is None:
        with own_session(context) as portero:
            return _tell_made(context, in_session(portero), done)
    from portero.service import at_the_machine  # the service is loaded only where its folder is worked on

    try:
        return _tell_made(context, at_machine(at_the_machine), done)
    except at_the_machine.CannotDo as problem:
        raise CommandProblem(str(problem)) from problem


def _tell_made(context: Context, made: MadeAdministrator, done: str) -> int:
    def tell() -> None:
        output.say(f"{done} {made.name} ({made.role}). The first password, shown this once:")
        output.say(made.first_password, indent=4)
        until = f"{made.first_password_until:%Y-%m-%d}"
        output.say(f"It is good until {until}, and is changed at the first sign-in: portero sign-in --name {made.name}")

    return present(context, made, tell)


def administrator_set(context: Context) -> int:
    options = context.options
    rights = {name: getattr(options, name) for name in ("sees_names", "probes_freely")}
    said = {name: None if word is None else word == "yes" for name, word in rights.items()}
    given = {"role": options.role, **said, "note": options.note}
    changed = {name: value for name, value in given.items() if value is not None}
    if not changed:
        raise CommandProblem("say what to change: --role, --sees-names, --probes-freely, --note")
    return _change(context, changed)


def administrator_disable(context: Context) -> int:
    return _change(context, {"disabled": True})


def administrator_enable(context: Context) -> int:
    return _change(context, {"disabled": False})


def _change(context: Context, changed: dict[str, object]) -> int:
    with own_session(context) as portero:
        seen = portero.administrators.get(context.options.name.lower())
        said = AdministratorChange(**{**seen.model_dump(include=set(AdministratorChange.model_fields)), **changed})
        now = portero.administrators.change(seen, said)
    return present(context, now, lambda: _print_administrators([now]))


def administrator_remove(context: Context) -> int:
    name = context.options.name.lower()
    if not confirmed(context.options, f"Remove {name}, with sessions and tokens?"):
        return DONE
    with own_session(context) as portero:
        portero.administrators.remove(name)
    tell_removed(context, name, "administrator")
    return DONE


def register(commands: Commands) -> None:
    """Add this family's commands."""
    noun = commands.noun("administrator", "Who may use the service, and how much each may.")
    listing = "List administrators: role, whether they see names, and when they were last seen."
    noun.add("list", administrator_list, listing, "portero administrator list")

    add = noun.add(
        "add",
        administrator_add,
        "Make an administrator, with a first password.",
        "portero administrator add help-desk --role responder --sees-names yes",
    )
    _add_name(add)
    add.add_argument("--role", choices=get_args(Role), default="reader", help="how much they may (reader)")
    _add_said(add)
    _add_data(add)

    change = noun.add(
        "set",
        administrator_set,
        "Change what an administrator may; it counts at once.",
        "portero administrator set help-desk --role author",
    )
    _add_name(change)
    change.add_argument("--role", choices=get_args(Role), help="how much they may")
    _add_said(change)
    add_password_stdin(change, "your own password")

    for word, run, summary in (
        ("disable", administrator_disable, "Let an administrator in no more; sessions and tokens end."),
        ("enable", administrator_enable, "Let a disabled administrator in again."),
    ):
        made = noun.add(word, run, summary, f"portero administrator {word} help-desk")
        _add_name(made)
        add_password_stdin(made, "your own password")

    reset = noun.add(
        "reset",
        administrator_reset,
        "Make a first password for an administrator who has lost theirs.",
        "portero administrator reset it-desk --data /var/lib/portero",
    )
    _add_name(reset)
    _add_data(reset)

    remove = noun.add(
        "remove",
        administrator_remove,
        "Remove an administrator, with sessions and tokens.",
        "portero administrator remove help-desk",
    )
    _add_name(remove)
    add_password_stdin(remove, "your own password")
    add_yes(remove)


def _add_name(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="the administrator's name")


def _add_said(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--sees-names", choices=("yes", "no"), help="may see who people are, and the audit trail")
    parser.add_argument(
        "--probes-freely", choices=("yes", "no"), help="may have machines try any address, and take pictures"
    )
    parser.add_argument("--note", metavar="TEXT", help="who that is, or what for")


def _add_data(parser: argparse.ArgumentParser) -> None:
    add_password_stdin(parser, "your own password")
    at_machine = "at the service's machine: its folder; nobody has to be signed in then"
    parser.add_argument("--data", type=Path, metavar="DIR", help=at_machine)
