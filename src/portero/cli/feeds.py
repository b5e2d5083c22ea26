"""Feeds, what they have brought, and the category index that is made of them."""

from __future__ import annotations

import argparse
import getpass
import sys
from pathlib import Path
from typing import Any

from portero.cli import output
from portero.cli.command import (
    DONE,
    FAILED,
    CommandProblem,
    Commands,
    Context,
    UsageProblem,
    add_change,
    joined_by_commas,
    present,
)
from portero.cli.family import NounFamily, given_in
from portero.cli.lookups import listing_aside
from portero.cli.previews import tell_verdicts
from portero.cli.progress import progress
from portero.client import Portero
from portero.core import wording
from portero.core.nouns.feed import FORMATS, Feed, FeedCredential, FeedSummary
from portero.core.nouns.feed_comparison import FeedComparison

MOST_TOLD = 12


def _tell_feed(feed: FeedSummary) -> None:
    output.say(f"{feed.name} ({feed.key}): {feed.sentence}")
    if feed.source or feed.licence:
        output.say(f"By {feed.source or 'somebody not named'}; {feed.licence or 'no licence noted'}.", indent=2)
    if feed.in_force:
        told = feed.in_force
        bad = f", {wording.counted(told.bad, 'bad line')}" if told.bad else ""
        aside = f", {told.aside:,} kept aside" if told.aside else ""
        output.say(
            f"Generation {told.number} of {told.at:%Y-%m-%d %H:%M} counts: {told.entries:,} entries"
            f" ({told.added:,} new, {told.changed:,} changed, {told.removed:,} gone){bad}{aside}.",
            indent=2,
        )
        for line in told.bad_lines[:5]:
            output.say(f"line {line.line}: {line.problem}", indent=4)
        if told.unknown_words:
            words = wording.joined([f"{word} ({number:,})" for word, number in list(told.unknown_words.items())[:8]])
            remedy = "" if feed.kind == "programs" else "; give them one with --map WORD=CATEGORY"
            output.say(f"Words without a category: {words}{remedy}", indent=2)
    else:
        output.say("Nothing of it is in force yet.", indent=2)
    if feed.waiting:
        output.say(
            f"Generation {feed.waiting.number} waits to be looked at: portero feed compare {feed.key}"
            f" {feed.waiting.number}, then portero feed take {feed.key} or drop.",
            indent=2,
        )
    if feed.held:
        output.say(f"Its schedule rests, as it was put back: portero feed resume {feed.key}", indent=2)
    if feed.last_poll:
        poll = feed.last_poll
        output.say(f"Last read {poll.at:%Y-%m-%d %H:%M}: {poll.result}. {poll.problem or ''}".rstrip(), indent=2)
    if feed.kind == "indicators":
        output.say(
            f"In {wording.joined(feed.rulesets)}."
            if feed.rulesets
            else f"No ruleset takes it in: portero ruleset create {feed.key} --kind indicator --feed {feed.key}",
            indent=2,
        )


def _feed_values(options: argparse.Namespace, before: dict[str, Any]) -> dict[str, Any]:
    names = ("name", "kind", "format", "address", "source", "licence", "action", "lifetime_days")
    values = given_in(options, *names)
    if options.every is not None:
        values["every_minutes"] = _minutes(options.every)
    if options.categories is not None:
        values["categories"] = joined_by_commas(options.categories)
    if options.map:
        mapping = dict(before.get("mapping", {}))
        for text in options.map:
            word, equals, to = text.partition("=")
            if not equals:
                raise UsageProblem(f"“{text}” maps nothing: write WORD=CATEGORY[,CATEGORY], or WORD= to pass it over")
            mapping[word.strip()] = joined_by_commas(to)
        values["mapping"] = mapping
    for name in ("review", "private_network"):
        if (given := getattr(options, name)) is not None:
            values[name] = given == "yes"
    return values


def _minutes(text: str) -> int | None:
    if text == "never":
        return None
    sizes = {"m": 1, "h": 60, "d": 1440}
    number, unit = text[:-1], text[-1:]
    if not number.isdigit() or unit not in sizes:
        raise UsageProblem(f"“{text}” is no span: write it as in 30m, 6h or 1d, or never")
    return int(number) * sizes[unit]


def _finish(context: Context, portero: Portero, key: str) -> int:
    with progress(f"Reading {key}") as note:
        found = portero.feeds.finished(key, lambda now: note(doing=now.stage, told=f"{now.lines:,} lines"))
    present(context, found, lambda: _tell_feed(found))
    return FAILED if found.last_poll and found.last_poll.result == "failed" else DONE


def feed_poll(context: Context) -> int:
    """Fetch a feed and wait for what comes of it."""
    with context.client() as portero:
        portero.feeds.poll(context.options.key)
        return _finish(context, portero, context.options.key)


def feed_import(context: Context) -> int:
    """Send a file and wait for what comes of it."""
    options = context.options
    with context.client() as portero:
        if options.file == "-":
            portero.feeds.send(options.key, sys.stdin.buffer, name="standard input", review=options.review)
        else:
            try:
                portero.feeds.send(options.key, Path(options.file), review=options.review)
            except OSError as problem:
                raise CommandProblem(f"{options.file} cannot be read: {problem.strerror}") from problem
        return _finish(context, portero, options.key)


def feed_generations(context: Context) -> int:
    """List what a feed has brought."""
    with context.client() as portero:
        found = portero.feeds.generations(context.options.key)

    def tell() -> None:
        if not found:
            output.say("It has brought nothing yet.")
            return
        rows = [
            (
                str(generation.number),
                f"{generation.at:%Y-%m-%d %H:%M}",
                generation.by,
                f"{generation.entries:,}",
                f"+{generation.added:,} ~{generation.changed:,} -{generation.removed:,}",
                f"{generation.bad:,}",
                generation.state,
            )
            for generation in found
        ]
        output.print_table(("NUMBER", "AT (UTC)", "BY", "ENTRIES", "DIFFERENT", "BAD", ""), rows, right=(0, 3, 5))

    return present(context, found, tell)


def _number(portero: Portero, options: argparse.Namespace) -> int:
    if options.number is not None:
        return int(options.number)
    feed = portero.feeds.get(options.key)
    newest = feed.waiting or feed.in_force
    if newest is None:
        raise CommandProblem(f"{options.key} has brought nothing yet")
    return newest.number


def feed_compare(context: Context) -> int:
    """Say what a generation changes."""
    with context.client() as portero:
        found = portero.feeds.compare(context.options.key, _number(portero, context.options))
    return present(context, found, lambda: _tell_comparison(found))


def _tell_comparison(found: FeedComparison) -> None:
    against = f"generation {found.against}" if found.against else "nothing before"
    output.say(
        f"Generation {found.number} against {against}: {found.added:,} new, {found.changed:,} changed,"
        f" {found.removed:,} gone."
    )
    if found.transitions:
        rows = [
            (
                " ".join(transition.before) or "–",
                " ".join(transition.after) or "–",
                f"{transition.hosts:,}",
                ", ".join(transition.examples[:2]),
            )
            for transition in found.transitions[:MOST_TOLD]
        ]
        output.print_table(("BEFORE", "AFTER", "HOSTS", "SUCH AS"), rows, right=(2,))
    tell_verdicts(found.verdicts)
    if not found.verdicts:
        output.say("No verdict is another one.")
    if not found.complete:
        output.say(f"Verdicts were looked at for {found.looked_at:,} of them, those that were visited first.")


def _acting(what: str) -> Any:
    """A command that does something with what a feed has brought."""

    def run(context: Context) -> int:
        with context.client() as portero:
            found = getattr(portero.feeds, what)(context.options.key)
        return present(context, found, lambda: _tell_feed(found))

    return run


def feed_credential(context: Context) -> int:
    """Give a feed what it is fetched with; secrets come from standard input, never from the command line."""
    options = context.options
    with context.client() as portero:
        if options.forget:
            portero.feeds.forget_credential(options.key)
            output.say(f"{options.key} is fetched without a credential.")
            return DONE
        secret = getpass.getpass("Password or token: ") if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
        given = {"user": options.user, "password": secret} if options.user else {"token": secret}
        portero.feeds.set_credential(options.key, FeedCredential.model_validate(given))
    output.say(f"{options.key} is fetched with it from now on.")
    return DONE


def category_index(context: Context) -> int:
    """Say of what the category index is made."""
    days = context.options.newly_registered_days
    with context.client() as portero:
        if days is not None:
            portero.settings.change(reason=context.options.reason, newly_registered_days=days)
            output.say(f"Newly registered is from now on: {wording.newly_registered(days)}.")
            return DONE
        found = portero.feeds.category_index()

    def tell() -> None:
        output.say(
            f"{wording.counted(found.hosts, 'host')}, made {found.made_at:%Y-%m-%d %H:%M} (UTC), {found.digest[:19]}…"
        )
        made = [f"generation {number} of {key}" for key, number in found.generations.items()]
        output.say(
            f"Of {wording.joined(made)}." if made else "The small one that ships: no feed of categories is in force."
        )
        output.say(
            f"A new machine fetches {found.base_bytes + found.difference_bytes:,} bytes; one that has the base"
            f" {found.difference_bytes:,} ({wording.counted(found.difference_hosts, 'host')} different)."
        )
        output.say(f"Newly registered: {wording.newly_registered(found.newly_registered_days)}.")
        output.say(f"{wording.counted(found.devices_current, 'machine')} have it, {found.devices_behind:,} not yet.")

    return present(context, found, tell)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    family = NounFamily(Feed)
    noun = family.declare(commands)
    example = (
        "harbour-list --kind categories --format csv --address https://feeds.example/hosts.csv --every 6h"
        " --map betting=gambling"
    )
    rows = family.list(
        ("FEED", "KIND", "IN FORCE", "LAST READ", "WHAT IT BRINGS"),
        lambda feed: (
            feed.key,
            feed.kind,
            str(feed.in_force.number) if feed.in_force else "–",
            f"{feed.last_poll.at:%m-%d %H:%M} {feed.last_poll.result}" if feed.last_poll else "never",
            feed.sentence,
        ),
        f"There is no feed yet: portero feed set {example}",
    )
    family.add_list(noun, rows)
    family.add_show(noun, family.show(_tell_feed), "harbour-list")
    put = family.add_set(noun, family.set(_feed_values, _tell_feed), example)
    put.add_argument("--name", help="name for people")
    put.add_argument("--kind", choices=tuple(FORMATS), help="what it brings")
    formats = tuple(dict.fromkeys(format_ for some in FORMATS.values() for format_ in some))
    put.add_argument("--format", choices=formats, help="what it is written in")
    put.add_argument("--address", metavar="URL", help="where it is fetched; for TAXII the collection's address")
    put.add_argument("--every", metavar="SPAN", help="how often, as in 30m, 6h, 1d; or never")
    put.add_argument("--source", help="who publishes it")
    put.add_argument("--licence", help="on which terms it may be used")
    put.add_argument("--categories", metavar="KEYS", help="of every host, joined by commas")
    put.add_argument(
        "--map", action="append", metavar="WORD=KEYS", help="a word of its own, and the categories it means"
    )
    put.add_argument("--action", choices=("warn", "block", "log"), help="of indicators that come without one")
    put.add_argument("--lifetime-days", type=int, metavar="N", help="an indicator ends so long after it began")
    put.add_argument("--review", choices=("yes", "no"), help="whether each generation waits to be looked at")
    put.add_argument("--private-network", choices=("yes", "no"), help="whether it may be on a private address")
    add_change(put)
    family.add_remove(noun, family.remove(), "harbour-list")
    sending = noun.add(
        "import",
        feed_import,
        "Send a file as a feed's new generation.",
        "portero feed import harbour-list hosts.csv.gz",
    )
    sending.add_argument("key", metavar="KEY")
    sending.add_argument("file", metavar="FILE", help="may be packed with gzip; - reads standard input")
    sending.add_argument("--review", action="store_true", help="let it wait until somebody has looked at it")
    for verb, run, summary in (
        ("poll", feed_poll, "Fetch a feed now, and say what came of it."),
        ("generations", feed_generations, "List what a feed has brought."),
        ("take", _acting("take"), "Put the generation that waits in force."),
        ("drop", _acting("drop"), "Leave the generation that waits out."),
        ("back", _acting("go_back"), "Put the generation before in force again; the schedule rests."),
        ("resume", _acting("resume"), "Let the schedule run again."),
        ("aside", listing_aside(lambda portero, key: portero.feeds.aside(key)), "List what could not be expressed."),
    ):
        made = noun.add(verb, run, summary, f"portero feed {verb} harbour-list")
        made.add_argument("key", metavar="KEY")
    comparing = noun.add(
        "compare",
        feed_compare,
        "Say what a generation changes: hosts and verdicts.",
        "portero feed compare harbour-list 7",
    )
    comparing.add_argument("key", metavar="KEY")
    comparing.add_argument("number", nargs="?", type=int, help="the one that waits, else the one in force")
    secret = noun.add(
        "credential",
        feed_credential,
        "Give what a feed is fetched with; asks for the secret.",
        "portero feed credential harbour-list --user portero",
        json=False,
    )
    secret.add_argument("key", metavar="KEY")
    secret.add_argument("--user", help="a name that goes with a password; without it the secret is a token")
    secret.add_argument("--forget", action="store_true", help="fetch it without any from now on")
