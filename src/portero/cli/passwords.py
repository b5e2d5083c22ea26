"""Passwords, typed where nobody sees them, or read from standard input."""

from __future__ import annotations

import argparse
import getpass
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TypeVar

from portero.cli.command import CommandProblem, Context
from portero.client import Portero
from portero.client.errors import Invalid, PasswordChangeNeeded
from portero.core.nouns.administrator import LEAST_PASSWORD

Result = TypeVar("Result")


def add_password_stdin(parser: argparse.ArgumentParser, what: str = "the password") -> None:
    """The option to read passwords from standard input."""
    parser.add_argument("--password-stdin", action="store_true", help=f"read {what} from standard input")


def ask_password(context: Context, prompt: str) -> str:
    """A password: the next line of standard input, or what is typed. CommandProblem where there is none."""
    if not context.options.password_stdin:
        return getpass.getpass(prompt)
    line = sys.stdin.readline()
    if not line:
        raise CommandProblem(f"standard input ended; it has no line for “{prompt.rstrip(': ')}”")
    return line.rstrip("\n")


def ask_new_password(context: Context) -> str:
    """A new password, typed twice. CommandProblem where the two differ."""
    new = ask_password(context, f"New password ({LEAST_PASSWORD} letters or more): ")
    if not context.options.password_stdin and getpass.getpass("The same once more: ") != new:
        raise CommandProblem("the two are not the same; nothing was changed")
    return new


def with_own_password(
    context: Context, portero: Portero, name: str, password: str, act: Callable[[str], Result]
) -> Result:
    """What `act` comes to with somebody's password: a first one is changed before, and the new one given to it."""
    try:
        return act(password)
    except PasswordChangeNeeded:
        if not context.options.password_stdin:
            print("This is your first password, which the service made; choose one of your own.", file=sys.stderr)
    new = ask_new_password(context)
    change_password(portero, name, password, new)
    return act(new)


def change_password(portero: Portero, name: str, password: str, new: str) -> None:
    """Change a password. CommandProblem where the new one is a poor one."""
    with portero.access.session(name, password):
        try:
            portero.access.change_password(password, new)
        except Invalid as problem:
            raise CommandProblem(problem.detail) from problem


@contextmanager
def own_session(context: Context) -> Iterator[Portero]:
    """The client in a session of one's own, for which the password is asked: what a token may not do."""
    with context.client() as portero:
        name = portero.access.who_am_i().name
        with portero.access.session(name, ask_password(context, f"Your own password ({name}): ")):
            yield portero
