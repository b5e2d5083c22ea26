"""A command at work: its family loaded, its problems told."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence

from pydantic import ValidationError

from portero.cli import output
from portero.cli.command import DONE, FAILED, UNREACHABLE, USAGE, CommandProblem, Context, UsageProblem
from portero.cli.families import parser_of
from portero.cli.settings import BadSettings
from portero.client import NotSignedIn, Previewed, Problem, Unreachable
from portero.core import wording
from portero.core.nouns.base import without_tags
from portero.core.nouns.faults import fault_at, fault_of


def _complain(text: str) -> None:
    print(wording.as_sentence(text), file=sys.stderr)


def _invalid(problem: ValidationError) -> str:
    first = problem.errors()[0]
    return fault_at(without_tags(first["loc"]), fault_of(first))


def _done_or_previewed(context: Context) -> int:
    options = context.options
    try:
        status = int(options.run(context))
        if getattr(options, "prove", None) and not options.json:
            output.say("It is being proved; look at it with: portero revision list --limit 1")
        return status
    except Previewed as answer:
        if options.json:
            output.print_json(answer.preview)
        else:
            from portero.cli.previews import tell_preview

            tell_preview(answer.preview)
            output.say("Nothing was changed.")
        return DONE


def run_command(family: str, arguments: Sequence[str]) -> int:
    """Run a command of a family; returns its exit status. Nothing that a user can do ends in a traceback."""
    context = Context(parser_of(family).parse_args(arguments))
    output.be_wide(getattr(context.options, "wide", False))
    try:
        return _done_or_previewed(context)
    except Unreachable as problem:
        _complain(str(problem))
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
    except BrokenPipeError:
        # the reader of a pipe has gone; nothing is left to say
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return DONE
