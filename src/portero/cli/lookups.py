"""What is known of a host, and what was kept aside, as a terminal shows it."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from portero.cli import output
from portero.cli.command import Context, present
from portero.client import Portero
from portero.core import wording
from portero.core.nouns.correction import CorrectionSummary
from portero.core.nouns.indicator import SetAside
from portero.core.nouns.lookup import FeedSays, HostLookup, TouchingRule
from portero.core.nouns.taxonomy import NEWLY_REGISTERED, UNCATEGORISED, Taxonomy

MOST_RULES = 30


def tell_lookup(found: HostLookup, taxonomy: Taxonomy) -> None:
    """Say it: categories, by whom, where it was seen, which rules touch it."""
    for key in found.categories:
        category = taxonomy.categories[key]
        bound = f" ({wording.newly_registered(found.newly_registered_days)})" if key == NEWLY_REGISTERED else ""
        output.say(f"{found.host} is in {category.name} ({key}){bound}: {category.definition}")
    if found.source == "test host":
        output.say("It is a test host: always in this category, and left out of figures.")
    elif found.entry and found.entry != found.host:
        output.say(f"By the entry for {found.entry}, the nearest above it ({found.source}).")
    elif found.entry:
        output.say(f"By its own entry ({found.source}).")
    if found.correction:
        output.say(correction_sentence(found.correction), indent=2)
    for said in found.feeds:
        output.say(_said(said, found.host), indent=2)
    if found.service:
        service = found.service
        judged = f", suitability {service.suitability}" if service.suitability is not None else ""
        output.say(f"It belongs to the service {service.name} ({service.key}): {service.decision}{judged}.")
    output.say(_seen(found))
    if found.categories != (UNCATEGORISED,) and found.source != "test host":
        hosts = wording.joined([test_host.host for test_host in found.test_hosts])
        output.say(f"To try a block without visiting it: {hosts}")
    _tell_rules(found.rules)


def correction_sentence(correction: CorrectionSummary) -> str:
    """A correction in words."""
    who = f" by {correction.by}" if correction.by else ""
    when = f" on {correction.at:%Y-%m-%d}" if correction.at else ""
    feeds = f"; feeds say {wording.joined(correction.feeds_say)}" if correction.feeds_say else "; no feed knows it"
    why = f": {correction.reason}" if correction.reason else ""
    return f"Corrected{who}{when} to {wording.joined(correction.categories)}{feeds}{why}"


def _said(said: FeedSays, host: str) -> str:
    at = "" if said.entry == host else f" of {said.entry}"
    registered = f", registered on {said.registered_on}" if said.registered_on else ""
    words = wording.joined(said.categories) or "nothing (any more)"
    passed = "" if said.counts else " (something else goes before it)"
    return f"{said.name} ({said.feed}) says{at}: {words}, since {said.since}{registered}{passed}"


def _seen(found: HostLookup) -> str:
    if found.first_seen is None or found.last_seen is None:
        return "It was seen on no machine of the fleet."
    return (
        f"Seen on {wording.counted(found.devices, 'machine')}, {wording.counted(found.visits, 'visit')}: first"
        f" {found.first_seen:%Y-%m-%d %H:%M}, last {found.last_seen:%Y-%m-%d %H:%M} (UTC)."
    )


def _tell_rules(rules: tuple[TouchingRule, ...]) -> None:
    if not rules:
        output.say("No rule in force touches it.")
        return
    rows = []
    for rule in rules[:MOST_RULES]:
        targets = dict.fromkeys(target for put in rule.assignments for target in put.targets)
        actions = {put.action for put in rule.assignments}
        action = actions.pop() if len(actions) == 1 else rule.action
        marks = [
            *(["from " + rule.feed] if rule.feed else []),
            *(["list " + rule.address_list] if rule.address_list else []),
            *(["some pages"] if rule.part else []),
            *(["ended"] if rule.ended else []),
            *(["mandatory"] if any(put.mandatory for put in rule.assignments) else []),
        ]
        rows.append(
            (
                output.mark(action),
                rule.selector,
                f"{rule.ruleset}, rule {rule.number}",
                ", ".join(targets),
                ", ".join(marks),
            )
        )
    output.print_table(("ACTION", "SELECTOR", "RULE", "ON", ""), rows)
    if len(rules) > MOST_RULES:
        output.say(f"and {len(rules) - MOST_RULES} more; --json lists them.", indent=2)


def listing_aside(part: Callable[[Portero, str], Iterable[SetAside]]) -> Callable[[Context], int]:
    """A command that lists what was kept aside."""

    def run(context: Context) -> int:
        with context.client() as portero:
            found = list(part(portero, context.options.key))

        def tell() -> None:
            if not found:
                output.say("Nothing was kept aside.")
            else:
                output.print_table(("WHAT", "WHY"), [(aside.name, aside.problem) for aside in found])

        return present(context, found, tell)

    return run
