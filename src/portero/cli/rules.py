"""The rules of a ruleset, of whatever kind."""

from __future__ import annotations

import argparse
from typing import Any, get_args

from portero.cli import output
from portero.cli.command import (
    DONE,
    CommandProblem,
    Commands,
    Context,
    add_change,
    add_csv,
    add_yes,
    confirmed,
    present,
)
from portero.cli.moments import Moments
from portero.cli.selectors import selected
from portero.cli.warnings import warned_of_rules
from portero.client import Portero
from portero.client.connection import fields_of
from portero.core import wording
from portero.core.nouns.action import Action
from portero.core.nouns.base import unknown_word
from portero.core.nouns.moments import WAYS
from portero.core.nouns.rule import KEYS, PatternReading, Rule
from portero.core.nouns.ruleset import Ruleset, RulesetState

MOST_SHOWN = 200


def _matching(ruleset: RulesetState, options: argparse.Namespace) -> list[Rule]:
    """The rules that the selectors given name, or in which the text searched for stands."""
    rules = list(ruleset.rules)
    if options.search:
        wanted = options.search.casefold()
        rules = [rule for rule in rules if wanted in f"{rule.selector} {rule.name or ''} {rule.note or ''}".casefold()]
    if options.selectors:
        by_selector = {str(rule.selector): rule for rule in rules}
        missing = next((text for text in options.selectors if text not in by_selector), None)
        if missing is not None:
            raise CommandProblem(unknown_word("rule", missing, by_selector) + f" in {ruleset.key}")
        rules = [by_selector[text] for text in options.selectors]
    return rules


def rule_list(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        ruleset = portero.rulesets.get(options.ruleset)
    rules = _matching(ruleset, options)
    names = ("selector", "action", "name", "note", "valid_until")

    def tell() -> None:
        shown = [
            (str(rule.selector), output.mark(rule.action), _until(rule), rule.name or "", rule.note or "")
            for rule in rules[:MOST_SHOWN]
        ]
        output.print_table(("SELECTOR", "ACTION", "UNTIL (UTC)", "NAME", "NOTE"), shown)
        more = f"; the first {MOST_SHOWN} are shown" if len(rules) > MOST_SHOWN else ""
        output.say(f"{wording.counted(len(rules), 'rule')} of {len(ruleset.rules):,}{more}.")
        for key, number in ruleset.included.items():
            many = wording.counted(number, "more comes", "more come")
            output.say(f"{many} with the address list {key}: portero address-list show {key}")

    return present(context, rules, tell, csv=(names, ([getattr(rule, name) for name in names] for rule in rules)))


def _until(rule: Rule) -> str:
    return f"{rule.valid_until:%Y-%m-%d %H:%M}" if rule.valid_until else ""


def _values(options: argparse.Namespace, portero: Portero) -> dict[str, Any]:
    """What the options say of a rule, besides what it is about."""
    values = {name: value for name in ("action", "name", "note") if (value := getattr(options, name))}
    if options.valid_until:
        values["valid_until"] = Moments(portero).written("--valid-until", options.valid_until, ends=True)
    return values


def rule_add(context: Context) -> int:
    """Add a rule, or put it in place of the one with the same selector."""
    options = context.options
    named = selected(options.kind, options.value)
    if options.exact:
        named["exact"] = True
    if options.reading:
        named["reading"] = options.reading
    with context.client() as portero:
        rule = Rule.model_validate({**named, **_values(options, portero)})
        seen = portero.rulesets.get(options.ruleset)
        kept = [other for other in seen.rules if other.selector != rule.selector]
        return _save(context, portero, seen, [*kept, rule], f"{rule.action} {rule.selector}")


def rule_change(context: Context) -> int:
    """Act on many rules at once."""
    options = context.options
    with context.client() as portero:
        values = _values(options, portero)
        if options.for_ever:
            values["valid_until"] = None
        if not values:
            raise CommandProblem("say what to change: --action, --name, --note, --valid-until or --for-ever")
        seen = portero.rulesets.get(options.ruleset)
        changed = {rule.selector for rule in _some(seen, options)}
        rules = [
            Rule.model_validate(rule.model_dump(exclude_none=True) | values) if rule.selector in changed else rule
            for rule in seen.rules
        ]
        return _save(context, portero, seen, rules, f"changed {wording.counted(len(changed), 'rule')}")


def rule_remove(context: Context) -> int:
    """Take rules out."""
    options = context.options
    with context.client() as portero:
        seen = portero.rulesets.get(options.ruleset)
        gone = {rule.selector for rule in _some(seen, options)}
        counted = wording.counted(len(gone), "rule")
        if len(gone) > 1 and not confirmed(options, f"Take {counted} out of {seen.key}?"):
            return DONE
        rules = [rule for rule in seen.rules if rule.selector not in gone]
        return _save(context, portero, seen, rules, f"took {counted} out")


def _some(ruleset: RulesetState, options: argparse.Namespace) -> list[Rule]:
    if not options.search and not options.selectors:
        raise CommandProblem("say which rules: by their selectors as “portero rule list” shows them, or by --search")
    rules = _matching(ruleset, options)
    if not rules:
        raise CommandProblem(f"no rule of {ruleset.key} matches")
    return rules


def _save(context: Context, portero: Portero, seen: RulesetState, rules: list[Rule], did: str) -> int:
    changed = Ruleset.model_validate({**fields_of(seen, Ruleset), "rules": rules})
    known = set(seen.rules)
    warned_of_rules(portero, changed, {number for number, rule in enumerate(rules, 1) if rule not in known})
    made = portero.rulesets.put(changed, version=seen.version, reason=context.options.reason)
    return present(context, made, lambda: output.say(f"{made.key}: {did}. {made.sentence}"))


def register(commands: Commands) -> None:
    """Add this family's commands."""
    noun = commands.noun("rule", "The rules of a ruleset, of whatever kind.")
    listing = noun.add("list", rule_list, "List rules.", "portero rule list fraud-hosts --search refund")
    adding = noun.add(
        "add",
        rule_add,
        "Add a rule; one with the same selector is replaced.",
        'portero rule add fraud-hosts host parcel-refund.example --action block --name "Parcel fraud"',
    )
    changing = noun.add(
        "change",
        rule_change,
        "Change many rules at once.",
        "portero rule change fraud-hosts --search refund --action warn --valid-until 2027-01-31",
    )
    removing = noun.add(
        "remove", rule_remove, "Take rules out.", 'portero rule remove fraud-hosts "host parcel-refund.example"'
    )
    for made in (listing, adding, changing, removing):
        made.add_argument("ruleset", metavar="RULESET", help="key of the ruleset")
    for made in (listing, changing, removing):
        made.add_argument("selectors", nargs="*", metavar="SELECTOR", help="as the list shows it")
        made.add_argument("--search", metavar="TEXT", help="those in whose selector, name or note the text stands")
    adding.add_argument("kind", choices=KEYS, metavar="KIND", help=f"one of {', '.join(KEYS)}")
    adding.add_argument("value", nargs="?", metavar="VALUE", help="what of that kind; everything takes none")
    adding.add_argument("--exact", action="store_true", help="with host or url: only this very one")
    told = "with pattern: what a browser gets that cannot say it (stricter where mandatory, else left-out)"
    adding.add_argument("--reading", choices=get_args(PatternReading), help=told)
    for made in (adding, changing):
        actions = [action.value for action in Action]
        made.add_argument("--action", choices=actions, required=made is adding, help="what to do about it")
        made.add_argument("--name", help="name for people")
        made.add_argument("--note", help="a note")
        made.add_argument("--valid-until", metavar="TIME", help=f"when it is over: {WAYS}")
    changing.add_argument("--for-ever", action="store_true", help="take its end away")
    add_csv(listing)
    add_yes(removing)
    for made in (adding, changing, removing):
        add_change(made)
