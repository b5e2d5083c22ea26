"""Why something is, or is not, stopped on a machine; and the change that mends it."""

from __future__ import annotations

import argparse
import shlex

from rich.text import Text

from portero.cli import output
from portero.cli.checks import attempt_of, programs_on, tried_of
from portero.cli.command import (
    DONE,
    NOT_AS_EXPECTED,
    CommandProblem,
    Commands,
    Context,
    UsageProblem,
    add_change,
    present,
)
from portero.cli.documents import add_documents, offline
from portero.cli.moments import Moments
from portero.core.insight.offline import UnknownDevice
from portero.core.insight.whys import why
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.moments import WAYS
from portero.core.nouns.urls import BadUrl
from portero.core.nouns.why import Cause, StageAnswer, Why, WhyRemedy


def ask_why(context: Context) -> int:
    """Why an attempt comes to what it does."""
    options, documents = context.options, offline(context.options)
    if documents is not None:
        if options.remedy:
            raise UsageProblem("--remedy changes the estate of a service; leave --estate out")
        try:
            installed = documents.programs_of(options.device)
            attempt = attempt_of(options, tried_of(options, installed), Moments(None, documents.zone))
            told = why(documents.question(attempt, Verdict(options.expected or "block")))
        except (UnknownDevice, BadUrl) as problem:
            raise CommandProblem(str(problem)) from problem
        return _answer(context, told)
    with context.client() as portero:
        tried = tried_of(options, programs_on(portero, options, options.device))
        attempt = attempt_of(options, tried, Moments(portero))
        told = portero.checks.why(attempt, expected=Verdict(options.expected) if options.expected else None)
        if options.remedy:
            portero.checks.mend(_wanted(told, attempt, options.remedy), reason=options.reason)
            done = {"taken": options.remedy}
            return present(context, done, lambda: output.say("Done; follow it with: portero rollout --watch"))
    return _answer(context, told)


def _answer(context: Context, told: Why) -> int:
    present(context, told, lambda: tell(told, context.options))
    return DONE if told.holds else NOT_AS_EXPECTED


def _wanted(told: Why, attempt: Attempt, key: str) -> WhyRemedy:
    for cause in told.causes:
        if any(remedy.key == key for remedy in cause.remedies):
            return WhyRemedy(attempt=attempt, expected=told.expected, cause=cause.code, remedy=key)
    known = [remedy.key for cause in told.causes for remedy in cause.remedies]
    raise CommandProblem(f"there is no remedy “{key}” here; there is {', '.join(known) or 'none'}")


# --- in words ---


def tell(told: Why, options: argparse.Namespace) -> None:
    """The answer, then each stage with what was found there."""
    output.say(Text("").append(output.mark(told.found)).append(f"  {told.sentence}"))
    for answer in told.stages:
        _tell_stage(answer)
    remedies = [remedy for cause in told.causes for remedy in cause.remedies]
    if remedies and options.estate is None:
        what = shlex.quote(options.what)
        output.say(f"Try one: portero why {options.device} {what} --remedy {remedies[0].key} --preview")


def _tell_stage(answer: StageAnswer) -> None:
    if not answer.causes:
        output.say(f"{answer.stage}: {answer.sentence}", indent=2)
        return
    output.say(f"{answer.stage}:", indent=2)
    for cause in answer.causes:
        _tell_cause(cause)


def _tell_cause(cause: Cause) -> None:
    marked = Text("the cause  ", style="bold")
    if not cause.is_the_cause:
        marked = Text("also  " if cause.decisive else "note  ")
    output.say(marked.append(cause.detail), indent=4)
    output.say(f"step: {cause.remedy}", indent=8)
    for remedy in cause.remedies:
        output.say(f"{remedy.key}: {remedy.sentence}", indent=8)


# --- declaring ---


def register(commands: Commands) -> None:
    """Add this family's commands."""
    asking = commands.add(
        "why",
        ask_why,
        "Say why something is, or is not, stopped on a machine, and what mends it. Exits 3 if that is unexpected.",
        "portero why tidewren-mess-02 https://reeltide.example/ --expected block",
    )
    asking.add_argument("device", metavar="MACHINE", help="hostname or id")
    asking.add_argument("what", metavar="WHAT", help="a URL or a host, program:NAME, or a program's SHA-256")
    asking.add_argument(
        "--expected",
        choices=[verdict.value for verdict in Verdict],
        help="what was expected (block; allow, where it is stopped)",
    )
    asking.add_argument("--user", help="who tries it")
    asking.add_argument("--at", metavar="TIME", help=f"when: {WAYS} (now)")
    asking.add_argument("--place", choices=("on-site", "off-site"), help="where the machine is")
    asking.add_argument("--browser", help="with which browser")
    asking.add_argument("--version", help="the program's version, where the machine has several")
    asking.add_argument("--remedy", metavar="REMEDY", help="make this change, which mends it")
    add_change(asking)
    add_documents(asking)
