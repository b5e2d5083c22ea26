"""The verdict on attempts: one visit, one start, or many; by the service, or from documents alone."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime
from itertools import islice
from typing import Any, TextIO

from rich.text import Text

from portero.cli import output
from portero.cli.command import (
    DONE,
    FAILED,
    NOT_AS_EXPECTED,
    CommandProblem,
    Commands,
    Context,
    present,
    read_bytes,
    read_documents,
)
from portero.cli.moments import Moments
from portero.core import sentences, wording
from portero.core.insight.check_batches import judge_line, unjudged
from portero.core.insight.offline import OfflineEstate, UnknownDevice
from portero.core.matching.applications import CannotFreeze
from portero.core.matching.categories import EMPTY_INDEX, CategoryIndex
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import Estate, FactsDocument
from portero.core.nouns.ground import ground_words
from portero.core.nouns.moments import WAYS
from portero.core.nouns.urls import BadUrl
from portero.core.nouns.verdict import Explanation, LayerVerdict, RuleReference, Unjudged
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.formats.category_index import read_index
from portero.formats.estate_document import read_estate, read_facts
from portero.formats.places import BadDocument

AT_ONCE = 500
"""Lines of a batch that go to the service together."""
PROGRAM = ("file", "product", "vendor", "version", "signer", "certificate", "sha256", "path")


def read_or_tell(name: str, read: Callable[[], Any]) -> Any:
    """What `read` reads of the file of that name. CommandProblem with each problem of the document and its place."""
    try:
        return read()
    except BadDocument as problem:
        lines = [f"{name}: {fault}" if not fault.file else f"{name}/{fault}" for fault in problem.problems[:20]]
        if len(problem.problems) > 20:
            lines.append(f"{name}: and {len(problem.problems) - 20} more")
        raise CommandProblem("\n".join(lines)) from problem


def estate_in(name: str) -> Estate:
    """The estate of a document, or of a folder of them. CommandProblem where it does not read as one."""
    estate: Estate = read_or_tell(name, lambda: read_estate(read_documents(name)))
    return estate


def offline(options: argparse.Namespace) -> OfflineEstate | None:
    """What --estate, --facts and --index name; None where none is given, and the service is to answer."""
    if not (options.estate or options.facts or options.index):
        return None
    if not options.estate:
        raise CommandProblem("--facts and --index go with --estate FILE")
    if not options.facts:
        raise CommandProblem("--estate needs --facts FILE too: the devices that attempts are made on")
    estate = estate_in(options.estate)
    facts = read_or_tell(options.facts, lambda: read_facts(read_bytes(options.facts)))
    index = read_or_tell(options.index, lambda: read_index(read_bytes(options.index))) if options.index else EMPTY_INDEX
    return alone(estate, facts, index)


def alone(estate: Estate, facts: FactsDocument, index: CategoryIndex) -> OfflineEstate:
    """What judges by documents alone. CommandProblem where a set is to be frozen that cannot be."""
    try:
        return OfflineEstate(estate, facts, index, datetime.now(UTC))
    except CannotFreeze as problem:
        raise CommandProblem(str(problem)) from problem


def _judge(context: Context, tried: dict[str, Any]) -> int:
    options, documents = context.options, offline(context.options)
    if documents is not None:
        attempt = _attempt(options, tried, Moments(None, documents.zone))
        try:
            explanation = documents.explain(attempt, options.left_aside)
        except (UnknownDevice, BadUrl) as problem:
            raise CommandProblem(str(problem)) from problem
    else:
        with context.client() as portero:
            attempt = _attempt(options, tried, Moments(portero))
            explanation = portero.checks.check(attempt, left_aside=options.left_aside)
    present(context, explanation, lambda: tell(explanation))
    return DONE if explanation.gap == "none" else NOT_AS_EXPECTED


def _given(options: argparse.Namespace, names: Iterable[str]) -> dict[str, Any]:
    return {name: value for name in names if (value := getattr(options, name)) is not None}


def check_visit(context: Context) -> int:
    """The verdict on a visit."""
    options = context.options
    more = _given(options, ("user", "browser", "place", "search_term", "media_type", "address"))
    return _judge(context, {"url": options.target, **more})


def check_start(context: Context) -> int:
    """The verdict on a start."""
    options = context.options
    program = _given(options, PROGRAM)
    if not program:
        raise CommandProblem(f"say which program: {', '.join(f'--{name}' for name in PROGRAM)}")
    return _judge(context, {"start": program, **_given(options, ("user", "place"))})


def _attempt(options: argparse.Namespace, tried: dict[str, Any], moments: Moments) -> Attempt:
    at = moments.read("--at", options.at) if options.at else datetime.now(UTC).replace(microsecond=0)
    return Attempt.model_validate({"device": options.device, "at": at, **tried})


# --- batches ---


def check_batch(context: Context) -> int:
    """The verdict on each line; in the same order, a verdict or a problem a line."""
    options, documents = context.options, offline(context.options)
    with _opened(options.file) as lines:
        filled = (line for line in lines if line.strip())
        if documents is not None:
            answers: Iterable[Explanation | Unjudged] = (judge_line(line, documents.explain) for line in filled)
        else:
            answers = _asked(context, filled)
        failed = False
        for answer in answers:
            sys.stdout.write(answer.model_dump_json() + "\n")
            failed = failed or isinstance(answer, Unjudged)
    return FAILED if failed else DONE


def _opened(name: str) -> TextIO:
    if name == "-":
        return sys.stdin
    try:
        return open(name, encoding="utf-8", errors="replace")
    except OSError as problem:
        raise CommandProblem(f"{name} cannot be read: {problem.strerror}") from problem


def _asked(context: Context, lines: Iterator[str]) -> Iterator[Explanation | Unjudged]:
    with context.client() as portero:
        while some := list(islice(lines, AT_ONCE)):
            values = [_value(line) for line in some]
            answers = iter(portero.checks.check_batch([value for value in values if isinstance(value, dict)]))
            for value in values:
                yield value if isinstance(value, Unjudged) else next(answers)


def _value(line: str) -> dict[str, Any] | Unjudged:
    try:
        value = json.loads(line)
    except (ValueError, RecursionError) as problem:
        return unjudged(None, "bad-request", f"not JSON: {problem}")
    return value if isinstance(value, dict) else unjudged(None, "invalid", "an attempt is a mapping")


# --- in words ---


def tell(explanation: Explanation) -> None:
    """The whole answer, as a ladder that can be read from top to bottom."""
    if explanation.host is not None:
        names = wording.joined([TAXONOMY.categories[key].name for key in explanation.categories])
        entry = explanation.category_entry
        by = f", by the entry for {entry}" if entry and entry != explanation.host else ""
        output.say(f"{explanation.host} is in {names}{by}.")
    intended, effective = explanation.intended, explanation.effective
    line = Text("Intended ").append(output.mark(intended.verdict)).append(", effective ")
    output.say(
        line.append(output.mark(effective.verdict)).append("" if explanation.gap == "none" else _gap(explanation))
    )
    for layer in intended.layers:
        _tell_layer(layer)
    for caveat in effective.caveats:
        output.say(f"! {caveat.code}: {caveat.detail} {caveat.remedy}", indent=2)
    if explanation.revision is not None:
        held = "holds it" if explanation.bundle == explanation.applied_bundle else "does not hold its newest bundle"
        output.say(f"Revision {explanation.revision}; the machine {held}.")


def _gap(explanation: Explanation) -> str:
    words = {"looser": "meant to be stopped, and is not", "stricter": "stopped, and not meant to be"}
    return f": a gap, {words[explanation.gap]}"


def _named(rule: RuleReference) -> str:
    fed = ", from a feed" if rule.feed else ""
    listed = f", from the address list {rule.address_list}" if rule.address_list else ""
    return f"{rule.ruleset} on {sentences.target_words(rule.target)}: {rule.selector}{fed}{listed}"


def _tell_layer(layer: LayerVerdict) -> None:
    output.say(f"{layer.layer}: {layer.why}", indent=2)
    if layer.winner:
        strong = ", mandatory" if layer.winner.mandatory else ""
        named = f"  {_named(layer.winner)}{strong}"
        output.say(Text("wins  ").append(output.mark(layer.winner.action)).append(named), 4)
        if layer.winner.ground and layer.winner.action != "allow":
            output.say(f"ground: {ground_words(layer.winner.ground)}", indent=10)
    for lost in layer.lost:
        output.say(Text("lost  ").append(output.mark(lost.action)).append(f"  {_named(lost)}"), indent=4)
        output.say(f"on {lost.rung}: {lost.why}", indent=10)
    for logged in layer.logged:
        output.say(Text("      ").append(output.mark("log")).append(f"  {_named(logged)}, recorded"), indent=4)
    for aside in layer.left_aside or ():
        output.say(Text("aside ").append(output.mark(aside.action)).append(f"  {_named(aside)}"), indent=4)
        output.say(f"{aside.reason}: {aside.why}", indent=10)
    if layer.note and (layer.winner or layer.layer == "startup"):
        output.say(layer.note, indent=4)


# --- declaring ---


def add_documents(parser: argparse.ArgumentParser) -> None:
    """The options that name documents in place of the service."""
    group = parser.add_argument_group("without a service")
    group.add_argument(
        "--estate", metavar="FILE", help="estate document, YAML or JSON, or a folder of them; - reads standard input"
    )
    group.add_argument("--facts", metavar="FILE", help="facts document of the devices")
    group.add_argument("--index", metavar="FILE", help="category index as CSV: host, categories")


def _add_common(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("device", metavar="DEVICE", help="hostname or id")
    parser.add_argument("--user", help="who tries it")
    parser.add_argument("--at", metavar="TIME", help=f"when: {WAYS} (now)")
    parser.add_argument("--place", choices=("on-site", "off-site"), help="where the machine is")
    parser.add_argument(
        "--left-aside", action="store_true", help="also the rules that would match and do not count now"
    )
    add_documents(parser)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    check = commands.noun("check", "The verdict on an attempt, with its reasons.")
    visit = check.add(
        "visit",
        check_visit,
        "Say what happens to a visit on a machine, and why. Exits 3 where there is a gap.",
        "portero check visit tidewren-mess-02 https://reeltide.example/",
    )
    _add_common(visit)
    visit.add_argument("target", metavar="URL", help="a URL or a host")
    visit.add_argument("--browser", help="with which browser")
    visit.add_argument("--search-term", metavar="TEXT", help="what is searched for; else read from the URL")
    visit.add_argument("--media-type", metavar="TYPE", help="what comes back, as in video/mp4")
    visit.add_argument("--address", help="where the host was found; else read from the URL")

    start = check.add(
        "start",
        check_start,
        "Say what happens when a program is started on a machine, and why. Exits 3 where there is a gap.",
        'portero check start workshop-diag-01 --product "Deckhand Viewer" --version 4.1',
    )
    _add_common(start)
    for name in PROGRAM:
        start.add_argument(f"--{name}", help=f"the program's {name}" if name != "sha256" else "the program's SHA-256")

    batch = check.add(
        "batch",
        check_batch,
        "Judge many attempts: JSON Lines in, JSON Lines out. Exits 1 where one cannot be judged.",
        "portero check batch attempts.jsonl --estate estate.yaml --facts facts.yaml",
        json=False,
    )
    batch.add_argument("file", metavar="FILE", help="an attempt a line; - reads standard input")
    add_documents(batch)
