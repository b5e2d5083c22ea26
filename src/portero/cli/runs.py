"""Probe sets tried over the fleet: starting a run, and looking at those that are kept."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from itertools import islice
from typing import get_args

from rich.text import Text

from portero.cli import output
from portero.cli.command import (
    DONE,
    NOT_AS_EXPECTED,
    CommandProblem,
    Commands,
    Context,
    UsageProblem,
    add_csv,
    add_limit,
    present,
    write_bytes,
)
from portero.cli.progress import progress
from portero.core import wording
from portero.core.nouns.action import Verdict
from portero.core.nouns.observation import Observation
from portero.core.nouns.probe_set import Probe, ReachedBy, RunKind, Window
from portero.core.nouns.run import NewRun, ProbeResult, Run, RunSummary
from portero.formats.junit import junit

_MOST_RULES = 40
STANDARD_OUTPUT = "-"
_HEADINGS = ("RUN", "WHEN", "BY", "REVISION", "KIND", "SETS", "MACHINES", "PROBES", "FAILED")
_FIELDS = ("id", "at", "by", "revision", "kind", "sets", "on", "devices", "probes", "failed", "state")


def verify(context: Context) -> int:
    """Try probe sets over the fleet."""
    options = context.options
    observed = options.observe or options.visit is not None or options.pictures
    kind: RunKind = "observed" if observed else "predicted"
    new = NewRun(
        sets=tuple(options.set),
        on=tuple(options.on),
        kind=kind,
        seconds=options.seconds,
        visit=options.visit,
        expect=Verdict(options.expected),
        browser=options.browser,
        window=options.window,
        reached_by=options.reached_by,
        pictures=options.pictures,
    )
    with context.client() as portero, progress("Asking" if observed else "Trying") as note:
        for run in portero.runs.follow(new):
            whole = (run.devices, "machine") if observed else (run.probes, "probe")
            note(told=f"{run.done:.0%} of {wording.counted(*whole)}")
    if run.state == "failed":
        raise CommandProblem(run.problem or "the run failed")
    write_junit(options, run.results)
    if options.junit != STANDARD_OUTPUT:
        present(context, run, lambda: _tell_run(run))
    return NOT_AS_EXPECTED if run.failed else DONE


def list_runs(context: Context) -> int:
    """The runs that are kept."""
    with context.client() as portero:
        found = list(portero.runs.list(context.options.limit))
    rows = [_row(one) for one in found]
    return present(
        context,
        found,
        lambda: output.print_table(_HEADINGS, rows, right=(0, 3, 6, 7, 8)) if rows else output.say("No run is kept."),
        csv=(_FIELDS, [[getattr(one, name) for name in _FIELDS] for one in found]),
    )


def _row(one: RunSummary) -> tuple[str | Text, ...]:
    failed = Text(f"{one.failed:,}", style="bold" if one.failed else "") if one.state == "done" else Text(one.state)
    sets = ", ".join(one.sets)
    return (
        str(one.id),
        f"{one.at:%Y-%m-%d %H:%M}",
        one.by,
        str(one.revision),
        one.kind,
        sets,
        f"{one.devices:,}",
        f"{one.probes:,}",
        failed,
    )


def show_run(context: Context) -> int:
    """One run with what came of each probe."""
    with context.client() as portero:
        run = portero.runs.get(context.options.id)
    present(context, run, lambda: _tell_run(run))
    return NOT_AS_EXPECTED if run.failed else DONE


def list_machines(context: Context) -> int:
    """The machines on which a probe did not come out for a cause."""
    options = context.options
    with context.client() as portero:
        found = list(portero.runs.devices(options.id, set=options.set, number=options.number, cause=options.cause))
    return present(context, found, lambda: print("\n".join(one.hostname for one in found)))


def list_seen(context: Context) -> int:
    """What machines saw in an observed run."""
    options = context.options
    agrees = False if options.otherwise else None
    with context.client() as portero:
        seen = portero.runs.observations(options.id, set=options.set, number=options.number, agrees=agrees)
        found = list(islice(seen, options.limit))
    return _present_seen(context, found)


def observed(context: Context) -> int:
    """What a set came to on the machines that have tried it."""
    with context.client() as portero:
        found = list(portero.runs.observed(context.options.set))
        probes = portero.probe_sets.get(context.options.set).probes
    rows = [
        (str(one.number), _tried(probes[one.number - 1]), one.sentence, f"{one.at:%Y-%m-%d %H:%M}")
        for one in found
        if one.number <= len(probes)
    ]
    headings = ("", "TRIED", "WHAT MACHINES SAW LAST", "AT (UTC)")
    none = "No machine has tried a probe of this set, as they are written now."
    return present(context, found, lambda: output.print_table(headings, rows, right=(0,)) if rows else output.say(none))


def _tried(one: Probe | ProbeResult) -> str:
    return f"{one.tried}, {one.how}" if one.how else one.tried


def device_seen(context: Context) -> int:
    """What a machine saw last of each probe."""
    with context.client() as portero:
        found = list(portero.runs.of_device(context.options.device))
    return _present_seen(context, found)


def _present_seen(context: Context, found: Sequence[Observation]) -> int:
    rows = [
        (
            one.hostname,
            f"{one.set} {one.number}",
            output.mark(one.predicted) if one.predicted else "–",
            output.mark(one.seen.verdict) if one.seen.verdict else "–",
            "" if one.agrees is not False else Text("otherwise", style="bold red"),
            one.sentence,
        )
        for one in found
    ]
    headings = ("MACHINE", "PROBE", "PREDICTED", "OBSERVED", "", "SEEN")
    fields = ("hostname", "set", "number", "tried", "expected", "predicted", "agrees", "at", "sentence")
    return present(
        context,
        found,
        lambda: output.print_table(headings, rows) if rows else output.say("No machine has told anything."),
        csv=((*fields, "observed"), [[*(getattr(one, name) for name in fields), one.seen.verdict] for one in found]),
    )


def take_case(context: Context) -> int:
    """All that it takes to decide again what a machine saw otherwise."""
    options = context.options
    with context.client() as portero:
        data = portero.runs.case(options.id, options.device, options.set, options.number)
    write_bytes(options.out, data)
    if options.out != STANDARD_OUTPUT:
        output.say(f"Written to {options.out}; decide it again with: portero check replay {options.out}")
    return DONE


def take_picture(context: Context) -> int:
    """The page as a machine saw it."""
    options = context.options
    with context.client() as portero:
        write_bytes(options.out, portero.runs.picture(options.id, options.device, options.set, options.number))
    return DONE


def unprobed(context: Context) -> int:
    """The rules that no probe has met."""
    with context.client() as portero:
        found = portero.runs.probed_rules(days=context.options.days)

    def tell() -> None:
        output.say(found.sentence)
        rows = [(one.ruleset, str(one.rule), one.selector) for one in found.items[:_MOST_RULES]]
        if rows:
            output.print_table(("RULESET", "RULE", "SELECTOR, MET BY NO PROBE"), rows, right=(1,))
        if found.total > len(rows):
            output.say(f"and {found.total - len(rows):,} more; --json lists them.")

    return present(context, found, tell)


# --- in words ---


def _tell_run(run: Run) -> None:
    output.say(run.sentence)
    for result in sorted(run.results, key=lambda one: (not one.failed, not one.devices)):
        tell_result(result, run.id)


def tell_result(result: ProbeResult, run: int | None = None) -> None:
    """What a probe came to, with the causes of what did not."""
    name = f" ({result.name})" if result.name else ""
    word = "failed" if result.failed else "passed" if result.devices else "nowhere"
    mark = Text(f"{word:7}", style={"failed": "bold red", "passed": "green"}.get(word, ""))
    output.say(mark.append(f"  {result.set} {result.number}: {_tried(result)}{name}", style="default"), indent=2)
    output.say(result.sentence, indent=10)
    for cause in result.causes:
        machines = wording.counted(cause.devices, "machine")
        more = cause.devices - len(cause.examples)
        output.say(f"{machines}, {cause.code}: {cause.detail}", indent=10)
        output.say(f"step: {cause.remedy}", indent=12)
        output.say(f"on {wording.and_more(', '.join(cause.examples), more)}", indent=12)
        if more and run is not None:
            output.say(f"all: portero run machines {run} {result.set} {result.number} {cause.code}", indent=12)


# --- JUnit ---


def add_junit(parser: argparse.ArgumentParser) -> None:
    """The option that writes what came of probes for build servers."""
    parser.add_argument("--junit", metavar="FILE", help="also write what came of each probe as JUnit XML; - for output")


def write_junit(options: argparse.Namespace, results: Sequence[ProbeResult]) -> None:
    """Write it where that is asked for. CommandProblem."""
    if options.junit == STANDARD_OUTPUT and options.json:
        raise UsageProblem("--json and --junit - both go to the output; write one of them to a file")
    if options.junit:
        write_bytes(options.junit, junit(results))


# --- declaring ---


def register(commands: Commands) -> None:
    """Add this family's commands."""
    verifying = commands.add(
        "verify",
        verify,
        "Try probe sets over the fleet: what each machine would do. Exits 3 where one does not come out as expected.",
        "portero verify acceptance --on crew-mess",
    )
    verifying.add_argument("set", nargs="*", metavar="SET", help="keys of probe sets; all where none is named")
    verifying.add_argument(
        "--on", action="append", default=[], metavar="WHERE", help="only on this group or machine; may stand again"
    )
    verifying.add_argument(
        "--observe", action="store_true", help="have the machines really try it now, and say what they saw"
    )
    verifying.add_argument(
        "--seconds", type=float, default=60.0, metavar="N", help="with --observe: so long they may take (60)"
    )
    verifying.add_argument(
        "--visit", metavar="URL", help="have them try this address, in place of sets; needs the right to probe freely"
    )
    verifying.add_argument(
        "--expected",
        choices=[verdict.value for verdict in Verdict],
        default="block",
        help="with --visit: what is expected (block)",
    )
    verifying.add_argument("--browser", metavar="NAME", help="with --visit: in which browser")
    verifying.add_argument(
        "--window", choices=get_args(Window), help="with --visit: in which kind of window (ordinary)"
    )
    verifying.add_argument(
        "--reached-by",
        choices=get_args(ReachedBy),
        help="with --visit: typed in, by a link of a search page, or by one that redirects (typed)",
    )
    verifying.add_argument(
        "--pictures", action="store_true", help="with a picture of each page; needs the right to probe freely"
    )
    add_junit(verifying)
    noun = commands.noun("run", "Runs of probe sets, and what came of them.")
    listing = noun.add("list", list_runs, "List the runs that are kept, the newest first.", "portero run list")
    add_limit(listing, 50)
    add_csv(listing)
    showing = noun.add("show", show_run, "Show what came of each probe of a run.", "portero run show 12")
    rules = noun.add(
        "unprobed",
        unprobed,
        "Say how many rules in force a probe has met of late, and list those that none has.",
        "portero run unprobed --days 30",
    )
    rules.add_argument("--days", type=int, default=30, metavar="N", help="so far back runs count (30)")
    machines = noun.add(
        "machines",
        list_machines,
        "List the machines on which a probe did not come out for a cause.",
        "portero run machines 12 acceptance 1 silent",
    )
    of_set = noun.add(
        "observed",
        observed,
        "Say what a probe set came to on the machines that have really tried it, by what each saw last.",
        "portero run observed kiosk-duties",
    )
    of_set.add_argument("set", metavar="SET", help="key of the probe set")
    of_one = noun.add(
        "seen-by",
        device_seen,
        "List what a machine saw last of each probe that it really tried.",
        "portero run seen-by eastquay-desk-01",
    )
    of_one.add_argument("device", metavar="MACHINE", help="hostname or id")
    add_csv(of_one)
    seen = noun.add(
        "seen",
        list_seen,
        "List what each machine saw in an observed run, beside what was predicted.",
        "portero run seen 12 --otherwise",
    )
    seen.add_argument("--set", metavar="SET", help="only of this probe set")
    seen.add_argument("--number", type=int, metavar="PROBE", help="only of the probe at this place in it")
    seen.add_argument("--otherwise", action="store_true", help="only what was seen otherwise than predicted")
    add_limit(seen, 40)
    add_csv(seen)
    case = noun.add(
        "case",
        take_case,
        "Take along what a machine saw otherwise than predicted, with all that the prediction was made of: one file.",
        "portero run case 12 eastquay-desk-01 acceptance 1 --out case.json",
        json=False,
    )
    picture = noun.add(
        "picture",
        take_picture,
        "Take the picture of a page as a machine saw it: kept for 30 days.",
        "portero run picture 12 eastquay-desk-01 typed-in 1 --out page.png",
        json=False,
    )
    for made in (showing, machines, seen, case, picture):
        made.add_argument("id", type=int, metavar="RUN", help="its number, as “portero run list” gives it")
    machines.add_argument("set", metavar="SET", help="key of the probe set")
    machines.add_argument("number", type=int, metavar="PROBE", help="the probe's number in the set")
    for made in (case, picture):
        made.add_argument("device", metavar="MACHINE", help="hostname or id")
        made.add_argument("set", metavar="SET", help="key of the probe set")
        made.add_argument("number", type=int, metavar="PROBE", help="the probe's number in the set")
        made.add_argument("--out", default=STANDARD_OUTPUT, metavar="FILE", help="where to write it (standard output)")
    machines.add_argument("cause", metavar="CAUSE", help="the code of the cause")
