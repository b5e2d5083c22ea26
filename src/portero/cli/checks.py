"""The verdict on attempts: one visit, one start, or many; by the service, or from documents alone."""

from __future__ import annotations

import argparse
from collections.abc import Iterable
from datetime import UTC, datetime
from typing import Any

from rich.text import Text

from portero.cli import output
from portero.cli.batches import check_batch
from portero.cli.command import (
    DONE,
    NOT_AS_EXPECTED,
    CommandProblem,
    Commands,
    Context,
    present,
    read_bytes,
)
from portero.cli.documents import add_documents, offline
from portero.cli.moments import Moments
from portero.client import Portero
from portero.core import sentences, wording
from portero.core.insight.offline import UnknownDevice
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import PROGRAM_WORD, Attempt, attempted
from portero.core.nouns.device import Application
from portero.core.nouns.ground import ground_words
from portero.core.nouns.moments import WAYS
from portero.core.nouns.urls import BadUrl
from portero.core.nouns.verdict import Explanation, LayerVerdict, ObservedVerdict, RuleReference
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.sentences.observing import seen as seen_words
from portero.formats.cases import BadCase, read_case, replay

PROGRAM = ("file", "product", "vendor", "version", "signer", "certificate", "sha256", "path")


def _judge(context: Context, tried: dict[str, Any]) -> int:
    options, documents = context.options, offline(context.options)
    if documents is not None:
        attempt = attempt_of(options, tried, Moments(None, documents.zone))
        try:
            explanation = documents.explain(attempt, options.left_aside)
        except (UnknownDevice, BadUrl) as problem:
            raise CommandProblem(str(problem)) from problem
    else:
        with context.client() as portero:
            attempt = attempt_of(options, tried, Moments(portero))
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


def check_replay(context: Context) -> int:
    """What a case comes to when it is decided again, with no service."""
    try:
        told = replay(read_case(read_bytes(context.options.file)))
    except (BadCase, BadUrl) as problem:
        raise CommandProblem(f"{context.options.file}: {problem}") from problem
    then = told.observation

    def tell() -> None:
        output.say(f"Run {then.run}, {then.set} {then.number} on {then.hostname}, {then.at:%Y-%m-%d %H:%M:%S} UTC.")
        output.say(f"Tried:      {then.tried}")
        predicted = output.mark(then.predicted) if then.predicted else "not judged"
        output.say(Text("Predicted:  ").append(predicted).append(f"  {then.predicted_why}"))
        output.say(f"Observed:   {seen_words(then.seen)}")
        output.say(Text("Again:      ").append(output.mark(Verdict(told.decided))).append(f"  {told.why}"))
        if not told.reproduced:
            output.say("It is decided otherwise now than then: another version of Portero decided then.")

    present(context, told, tell)
    return DONE if told.agrees else NOT_AS_EXPECTED


def attempt_of(options: argparse.Namespace, tried: dict[str, Any], moments: Moments) -> Attempt:
    """The attempt on the machine that options name, at their moment."""
    at = moments.read("--at", options.at) if options.at else datetime.now(UTC).replace(microsecond=0)
    return Attempt.model_validate({"device": options.device, "at": at, **tried})


def tried_of(options: argparse.Namespace, installed: Iterable[Application] = ()) -> dict[str, object]:
    """The visit or the start that the option `what` means, with who, where, and with which browser. Of a program that
    is among those installed all that is known counts.
    """
    more = _given(options, ("user", "place"))
    tried = attempted(options.what, _known_of(options, installed) if options.what.startswith(PROGRAM_WORD) else {})
    return {**tried, **more, **(_given(options, ("browser",)) if "url" in tried else {})}


def _known_of(options: argparse.Namespace, installed: Iterable[Application]) -> dict[str, str]:
    name, version = options.what.removeprefix(PROGRAM_WORD).casefold(), options.version
    for one in installed:
        is_meant = name in ((one.product or "").casefold(), (one.file or "").casefold())
        if is_meant and version in (None, one.version):
            return one.model_dump(include=set(PROGRAM), exclude_none=True)
    return _given(options, ("version",))


def programs_on(portero: Portero, options: argparse.Namespace, device: str) -> Iterable[Application]:
    """The programs of a machine, where the option `what` names one."""
    return portero.devices.get(device).facts.applications if options.what.startswith(PROGRAM_WORD) else ()


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
    if explanation.observed is not None:
        _tell_observed(explanation.observed)
    for layer in intended.layers:
        _tell_layer(layer)
    for caveat in effective.caveats:
        output.say(f"! {caveat.code}: {caveat.detail} {caveat.remedy}", indent=2)
    if explanation.revision is not None:
        held = "holds it" if explanation.bundle == explanation.applied_bundle else "does not hold its newest bundle"
        output.say(f"Revision {explanation.revision}; the machine {held}.")


def _tell_observed(observed: ObservedVerdict) -> None:
    by = f" by the {observed.layer}" if observed.layer else ""
    browser = f" in {observed.browser}" if observed.browser else ""
    otherwise = ", otherwise than was predicted then" if observed.agrees is False else ""
    line = Text("Observed ").append(output.mark(observed.verdict))
    output.say(line.append(f"{by}{browser}, {observed.at:%Y-%m-%d %H:%M} UTC in run {observed.run}{otherwise}."))


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

    again = check.add(
        "replay",
        check_replay,
        "Decide a case again, with no service. Exits 3 where it comes to something else than the machine saw.",
        "portero check replay case.json",
        service=False,
    )
    again.add_argument("file", metavar="FILE", help="a case, as “portero run case” writes it; - reads standard input")

    batch = check.add(
        "batch",
        check_batch,
        "Judge many attempts: JSON Lines in, JSON Lines out. Exits 1 where one cannot be judged.",
        "portero check batch attempts.jsonl --estate estate.yaml --facts facts.yaml",
        json=False,
    )
    batch.add_argument("file", metavar="FILE", help="an attempt a line; - reads standard input")
    batch.add_argument(
        "--brief", action="store_true", help="by what each is decided alone, without the rules that lost"
    )
    batch.add_argument(
        "--jobs",
        metavar="N",
        type=int,
        help="from documents: how many processes judge; one for each core where left out",
    )
    add_documents(batch)
