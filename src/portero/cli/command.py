"""How commands are declared, and what each is given when it runs."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any

import platformdirs

from portero.cli import output, progress
from portero.cli.settings import ClientSettings
from portero.client import Portero

TAKE_BACK = "none"
"""What is written for an option to take back what it said before."""

DONE, FAILED, USAGE, NOT_AS_EXPECTED, UNREACHABLE = 0, 1, 2, 3, 4
"""Exit statuses."""


class CommandProblem(RuntimeError):
    """The command cannot be done; the message says what is wrong, where, and the nearest right thing."""


class UsageProblem(CommandProblem):
    """The command cannot be meant as it is written."""


class Context:
    """One call: its options, its settings, the client."""

    def __init__(self, options: argparse.Namespace) -> None:
        self.options = options
        self.settings = ClientSettings(options)

    def client(self) -> Portero:
        """The client for the service, as the profile's owner; with --preview one whose changes are only previewed.

        CommandProblem where nobody has signed in.
        """
        if not self.settings.token.value:
            url = self.settings.url.value
            raise CommandProblem(f"not signed in to {url}; run “portero sign-in --url {url} --name NAME”")
        previews = getattr(self.options, "preview", False)
        overrules = getattr(self.options, "overrule", False)
        if overrules and not getattr(self.options, "reason", None):
            raise UsageProblem("--overrule goes with --reason: history tells why the gate was overruled")
        url, token = str(self.settings.url.value), self.settings.token.value
        proves = getattr(self.options, "prove", None) or ()
        working = progress.answering if progress.is_seen() else None
        return Portero(url, token=token, previews=previews, overrules=overrules, proves=proves, working=working)


Run = Callable[[Context], int]


class Commands:
    """Adds commands to the parser, all in one shape: a line of help, options, a worked example at the foot."""

    def __init__(self, parser: argparse.ArgumentParser, title: str = "commands") -> None:
        self.nouns: set[str] = set()
        """The words of the authored nouns that have commands."""
        self.family = ""
        """The family that is being declared: the module of its commands."""
        self._parsers = parser.add_subparsers(title=title, metavar="COMMAND", required=True)

    def noun(self, name: str, summary: str, *, of: str | None = None) -> Commands:
        """A noun with verbs of its own; `of` is the word of the authored noun that they are about."""
        if of is not None:
            self.nouns.add(of)
        verbs = Commands(self._parsers.add_parser(name, help=summary, description=summary), "verbs")
        verbs.family = self.family
        return verbs

    def add(
        self, name: str, run: Run, summary: str, example: str, *, service: bool = True, json: bool = True
    ) -> argparse.ArgumentParser:
        """A command. Those that talk to the service take --url and --profile."""
        parser = self._parsers.add_parser(
            name,
            help=summary,
            description=summary,
            epilog=f"Example:\n  {example}",
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        parser.set_defaults(run=run, family=self.family)
        if json:
            parser.add_argument("--json", action="store_true", help="answer with one JSON document")
            parser.add_argument("--wide", action="store_true", help="wrap nothing, however long lines become")
        if service:
            where = parser.add_argument_group("the service")
            where.add_argument("--url", metavar="URL", help="address of the service")
            where.add_argument("--profile", metavar="NAME", help="profile of the settings file")
        return parser


def add_reason(parser: argparse.ArgumentParser) -> None:
    """The option that says why, for what is kept of it."""
    parser.add_argument("--reason", metavar="TEXT", help="why, for the record")


def add_change(parser: argparse.ArgumentParser) -> None:
    """The options of every change of the estate: why, and to see first what it would do."""
    add_reason(parser)
    parser.add_argument("--preview", action="store_true", help="say what would change, and do nothing")
    parser.add_argument(
        "--overrule", action="store_true", help="make it although a probe of the gate fails; for keepers, with --reason"
    )
    parser.add_argument(
        "--prove",
        action="append",
        metavar="PROBE",
        help="what is to prove it, and is kept with it: a probe set, or such as “block reeltide.example on ships”;"
        " give it again for more",
    )


def add_data(parser: argparse.ArgumentParser) -> None:
    """The option that names the service's folder, for commands that are given at the machine itself."""
    parser.add_argument(
        "--data",
        type=Path,
        default=Path(platformdirs.user_data_dir("portero")),
        metavar="DIR",
        help="where the service keeps its data",
    )


def add_yes(parser: argparse.ArgumentParser) -> None:
    """The option of destructive commands not to ask."""
    parser.add_argument("--yes", action="store_true", help="do not ask")


def is_person() -> bool:
    """Whether somebody sits there who can be asked."""
    return sys.stdin.isatty()


def confirmed(options: argparse.Namespace, question: str) -> bool:
    """Whether the person says yes, now or by --yes; where not, they are told that nothing was changed. A preview needs
    no leave.
    """
    if options.yes or getattr(options, "preview", False):
        return True
    try:
        answer = input(question + " [y/N] ")
    except EOFError:
        answer = ""
    if answer.strip().lower() in ("y", "yes"):
        return True
    output.say("Nothing was changed.")
    return False


def present(
    context: Context,
    answer: Any,
    tell: Callable[[], object],
    *,
    csv: tuple[Sequence[str], Iterable[Sequence[Any]]] | None = None,
) -> int:
    """Answer as was asked: as one JSON document, as CSV (headings and rows) where the command has it, or by `tell`, in
    words. DONE.
    """
    if context.options.json:
        output.print_json(answer)
    elif csv is not None and context.options.csv:
        output.print_csv(*csv)
    else:
        tell()
    return DONE


def tell_removed(context: Context, key: str, noun: str = "") -> None:
    """Say that an object was removed."""
    told = f"Removed {noun} {key}." if noun else f"Removed {key}."
    present(context, {"removed": key}, lambda: output.say(told))


def joined_by_commas(*values: str) -> list[str]:
    """The words of options in which several stand, joined by commas."""
    return [word.strip() for value in values for word in value.split(",") if word.strip()]


def read_bytes(name: str) -> bytes:
    """A file's bytes, or standard input for `-`. CommandProblem where it cannot be read."""
    if name == "-":
        return sys.stdin.buffer.read()
    try:
        return Path(name).read_bytes()
    except OSError as problem:
        raise CommandProblem(f"{name} cannot be read: {problem.strerror}") from problem


def write_bytes(name: str, data: bytes) -> None:
    """Write a file, or standard output for `-`. CommandProblem where it cannot be written."""
    if name == "-":
        sys.stdout.buffer.write(data)
        return
    try:
        Path(name).write_bytes(data)
    except OSError as problem:
        raise CommandProblem(f"{name} cannot be written: {problem.strerror}") from problem


_DOCUMENTS = (".yaml", ".yml", ".json")
MOST_FILES = 20_000


def read_documents(name: str) -> bytes | dict[str, bytes]:
    """A document's bytes, or those of all documents in a folder by their names. CommandProblem where there is none."""
    folder = Path(name)
    if name == "-" or not folder.is_dir():
        return read_bytes(name)
    files = [file for file in sorted(folder.rglob("*")) if file.suffix in _DOCUMENTS and file.is_file()]
    if not files:
        raise CommandProblem(f"{name} holds no .yaml, .yml or .json file")
    if len(files) > MOST_FILES:
        raise CommandProblem(f"{name} holds more than {MOST_FILES:,} documents")
    return {str(file.relative_to(folder)): read_bytes(str(file)) for file in files}


def add_csv(parser: argparse.ArgumentParser) -> None:
    """The option of lists to answer with CSV."""
    parser.add_argument("--csv", action="store_true", help="answer with CSV")


def add_limit(parser: argparse.ArgumentParser, default: int) -> None:
    """The option of long lists to stop after so many."""
    parser.add_argument("--limit", type=int, default=default, metavar="N", help=f"at most so many rows ({default})")
