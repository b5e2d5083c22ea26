"""The command `portero`."""

from __future__ import annotations

import argparse
import os
import sys

import argcomplete
from pydantic import ValidationError

from portero import __version__
from portero.cli import (
    activity,
    application_sets,
    assignments,
    blocks,
    board,
    categories,
    checks,
    corrections,
    coverage,
    devices,
    directory,
    enrolment_codes,
    estate,
    feeds,
    findings,
    groups,
    indicators,
    layer_modes,
    notices,
    nouns,
    output,
    readiness,
    revisions,
    rollout,
    rules,
    rulesets,
    schedules,
    serve,
    services,
    session,
    worklist,
)
from portero.cli.command import DONE, FAILED, UNREACHABLE, USAGE, CommandProblem, Commands, Context, UsageProblem
from portero.cli.previews import tell_preview
from portero.cli.settings import BadSettings
from portero.client import NotSignedIn, Previewed, Problem, Unreachable
from portero.core import wording
from portero.core.nouns.base import fault_of

_DESCRIPTION = """\
Say which web categories are stopped on which machines, see how overlapping policies resolve,
put them in force, and prove what each machine will really block."""

_EPILOG = """\
exit status:
  0 done   1 refused or failed   2 wrong usage   3 done, and the answer is not as expected
  4 the service cannot be reached

Try it: portero demo"""


_FAMILIES = (
    serve,
    session,
    devices,
    enrolment_codes,
    groups,
    rollout,
    readiness,
    layer_modes,
    coverage,
    categories,
    rulesets,
    rules,
    assignments,
    schedules,
    application_sets,
    services,
    notices,
    directory,
    feeds,
    corrections,
    indicators,
    estate,
    findings,
    checks,
    blocks,
    activity,
    revisions,
    worklist,
    board,
    nouns,
)


def parser() -> argparse.ArgumentParser:
    """The parser of the whole command."""
    top = argparse.ArgumentParser(
        prog="portero",
        description=_DESCRIPTION,
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    top.add_argument("--version", action="version", version=f"portero {__version__}")
    commands = Commands(top)
    for family in _FAMILIES:
        family.register(commands)
    return top


def _complain(text: str) -> None:
    print(wording.as_sentence(text), file=sys.stderr)


def _invalid(problem: ValidationError) -> str:
    first = problem.errors()[0]
    where = ".".join(str(part) for part in first["loc"])
    message = fault_of(first)
    return f"{where}: {message}" if where else message


def _done_or_previewed(context: Context) -> int:
    options = context.options
    try:
        return int(options.run(context))
    except Previewed as answer:
        if options.json:
            output.print_json(answer.preview)
        else:
            tell_preview(answer.preview)
            output.say("Nothing was changed.")
        return DONE


def run(arguments: list[str] | None = None) -> int:
    """Run a command; returns its exit status. Nothing that a user can do ends in a traceback."""
    top = parser()
    argcomplete.autocomplete(top)
    options = top.parse_args(arguments)
    context = Context(options)
    try:
        return _done_or_previewed(context)
    except Unreachable as problem:
        _complain(f"{problem}; is the service running?")
        return UNREACHABLE
    except NotSignedIn as problem:
        _complain(f"{problem.detail}")
        return FAILED
    except Problem as problem:
        _complain(problem.detail or problem.title)
        for error in problem.errors[1:10]:
            print(f"  {error.get('pointer', '')}: {error.get('detail', '')}", file=sys.stderr)
        return FAILED
    except (CommandProblem, BadSettings) as problem:
        _complain(str(problem))
        return USAGE if isinstance(problem, UsageProblem) else FAILED
    except ValidationError as problem:
        _complain(_invalid(problem))
        return USAGE
    except KeyboardInterrupt:
        return 130
    except BrokenPipeError:
        # the reader of a pipe has gone; nothing is left to say
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return DONE


if __name__ == "__main__":
    sys.exit(run())
