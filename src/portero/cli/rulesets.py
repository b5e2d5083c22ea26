"""Rulesets: named lists of rules."""

from __future__ import annotations

import argparse
from typing import Any

from portero.cli import output
from portero.cli.command import (
    DONE,
    TAKE_BACK,
    CommandProblem,
    Commands,
    Context,
    UsageProblem,
    add_change,
    add_csv,
    add_yes,
    confirmed,
    present,
    tell_removed,
)
from portero.cli.selectors import selected
from portero.client.connection import fields_of
from portero.core import wording
from portero.core.nouns.action import Action
from portero.core.nouns.ground import GROUNDS, ground_words
from portero.core.nouns.rule import KEYS, SELECTORS, RulesetKind
from portero.core.nouns.ruleset import Ruleset, RulesetState

_USUAL: dict[RulesetKind, str] = {
    "category": "category",
    "indicator": "host",
    "site": "pattern",
    "startup": "application_set",
}
"""What a word without a selector before it is, by the kind of ruleset."""


_GROUND_HELP = f"why it is there: {', '.join(GROUNDS)}, or words of your own"


_RULES_HELP = (
    "a category, host, site pattern or application set, by the ruleset's kind; or SELECTOR:VALUE, as in family:pastime,"
    " url:chess.example/play or sha256:…; or everything"
)


class _AddRule(argparse.Action):
    """Collects --block, --warn, --allow and --log in the order in which they stand."""

    def __call__(self, _parser: Any, namespace: argparse.Namespace, values: Any, option: str | None = None) -> None:
        rules = [*(getattr(namespace, "rules", None) or ())]
        rules += [(str(option).removeprefix("--"), word) for word in values.split(",")]
        namespace.rules = rules


def _rule(kind: RulesetKind, action: str, word: str) -> dict[str, Any]:
    """The rule of a word: “everything”, SELECTOR:VALUE, or a value of what such rulesets usually name."""
    if word == "everything":
        return {"everything": True, "action": action}
    selector, _, value = word.partition(":")
    if value and selector in KEYS:
        return selected(selector, value) | {"action": action}
    return selected(_USUAL[kind], word) | {"action": action}


def ruleset_list(context: Context) -> int:
    with context.client() as portero:
        rulesets = list(portero.rulesets.list(ground=context.options.ground))
    names = ("key", "name", "kind", "ground", "rules", "assignments", "sentence")

    def tell() -> None:
        if not rulesets and context.options.ground:
            output.say(f"No ruleset has the ground “{context.options.ground}”.")
        elif not rulesets:
            output.say("There is no ruleset yet: portero ruleset create no-gambling --block gambling")
        else:
            rows = [(r.key, r.kind, r.ground or "–", str(len(r.assignments)), r.sentence) for r in rulesets]
            output.print_table(("RULESET", "KIND", "GROUND", "ASSIGNED", "WHAT IT DOES"), rows, right=(3,))

    return present(
        context,
        rulesets,
        tell,
        csv=(names, ((r.key, r.name, r.kind, r.ground, r.rule_count, r.assignments, r.sentence) for r in rulesets)),
    )


def ruleset_show(context: Context) -> int:
    with context.client() as portero:
        ruleset = portero.rulesets.get(context.options.ruleset)
        assignments = list(portero.assignments.list(ruleset=ruleset.key))

    def tell() -> None:
        output.say(
            f"{ruleset.name} ({ruleset.key}), {ruleset.kind} ruleset, last changed in revision {ruleset.version}"
        )
        output.say(ruleset.sentence)
        if ruleset.ground:
            output.say(f"Ground: {ground_words(ruleset.ground)}.")
        rows = [
            (str(number), output.mark(rule.action), str(rule.selector), rule.name or "", rule.note or "")
            for number, rule in enumerate(ruleset.rules, start=1)
        ]
        output.print_table(("", "ACTION", "SELECTOR", "NAME", "NOTE"), rows, right=(0,))
        for include in ruleset.includes:
            many = wording.counted(ruleset.included.get(include.address_list, 0), "address", "addresses")
            output.say(f"{output.mark(include.action)} {many} of the address list {include.address_list}", indent=2)
        for assignment in assignments:
            output.say(f"{assignment.key}: {assignment.sentence}", indent=2)

    return present(context, ruleset, tell)


def ruleset_create(context: Context) -> int:
    options = context.options
    rules = [_rule(options.kind, action, word) for action, word in getattr(options, "rules", None) or ()]
    said = {name: getattr(options, name) for name in ("name", "kind", "ground", "feed")}
    ruleset = Ruleset.model_validate({"key": options.ruleset, **said, "rules": rules})
    with context.client() as portero:
        made = portero.rulesets.create(ruleset, reason=options.reason)

    def tell() -> None:
        output.say(f"Made ruleset {made.key}. {made.sentence}")
        output.say(f"It does nothing until it is assigned: portero assign {made.key} --to GROUP")

    return present(context, made, tell)


def ruleset_change(context: Context) -> int:
    """Change what a ruleset is called, on which ground it stands, and which address lists it includes."""
    options = context.options
    values = {name: value for name in ("name", "ground") if (value := getattr(options, name)) is not None}
    if not values and not options.include and not options.leave_out:
        raise UsageProblem("say what to change: --name NAME, --ground GROUND, --include LIST:ACTION, --leave-out LIST")
    with context.client() as portero:
        seen = portero.rulesets.get(options.ruleset)
        told: dict[str, Any] = {name: None if value == TAKE_BACK else value for name, value in values.items()}
        told["includes"] = _includes(options, seen)
        changed = Ruleset.model_validate({**fields_of(seen, Ruleset), **told})
        made = portero.rulesets.put(changed, version=seen.version, reason=options.reason)
    told_ground = f"; ground: {made.ground}" if made.ground else ""
    does = f" {made.sentence}" if options.include or options.leave_out else ""
    return present(context, made, lambda: output.say(f"{made.key} is called {made.name}{told_ground}.{does}"))


def _includes(options: argparse.Namespace, seen: RulesetState) -> list[Any]:
    """The address lists that it is to include: those of before, less those left out, and the new ones."""
    named = {include.address_list for include in seen.includes}
    for key in options.leave_out:
        if key not in named:
            raise CommandProblem(f"{seen.key} does not include the address list {key}")
    new = []
    for text in options.include:
        key, colon, action = text.partition(":")
        if not colon:
            raise UsageProblem(f"say what is to be done about {key}: --include {key}:block")
        new.append({"address_list": key, "action": action})
    gone = {*options.leave_out, *(include["address_list"] for include in new)}
    return [*(include for include in seen.includes if include.address_list not in gone), *new]


def ruleset_remove(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        seen = portero.rulesets.get(options.ruleset)
        if not confirmed(options, f"Remove ruleset {seen.key} ({seen.sentence})?"):
            return DONE
        portero.rulesets.remove(seen.key, version=seen.version, reason=options.reason)
    tell_removed(context, seen.key)
    return DONE


def register(commands: Commands) -> None:
    """Add this family's commands."""
    ruleset = commands.noun("ruleset", "Named lists of rules.", of="ruleset")
    listing = ruleset.add("list", ruleset_list, "List rulesets.", "portero ruleset list --ground bandwidth")
    listing.add_argument("--ground", metavar="GROUND", help="of this ground only; none for those without one")
    add_csv(listing)
    show = ruleset.add("show", ruleset_show, "Show one ruleset.", "portero ruleset show no-gambling")
    show.add_argument("ruleset", metavar="RULESET", help="key of the ruleset")
    create = ruleset.add(
        "create",
        ruleset_create,
        "Make a ruleset.",
        "portero ruleset create quiet --block video-streaming,music --warn family:pastime --allow sport\n"
        "  portero ruleset create fraud --kind indicator --block parcel-refund.example,address:203.0.113.0/24",
    )
    create.add_argument("ruleset", metavar="KEY", help="lower-case letters, digits, '-'")
    create.add_argument("--name", help="name for people")
    create.add_argument("--ground", metavar="GROUND", help=_GROUND_HELP)
    rules = create.add_argument_group("rules, joined by commas")
    for action in Action:
        told = _RULES_HELP if action is Action.ALLOW else None
        rules.add_argument(f"--{action.value}", action=_AddRule, metavar="WHAT", default=argparse.SUPPRESS, help=told)
    add_change(create)
    create.add_argument("--kind", choices=tuple(SELECTORS), default="category", help="what its rules name (category)")
    create.add_argument("--feed", metavar="KEY", help="brought in by this feed; of kind indicator or startup")
    change = ruleset.add(
        "change",
        ruleset_change,
        "Change what a ruleset is called, its ground, and the address lists that it includes.",
        "portero ruleset change quiet-link --ground bandwidth\n"
        "  portero ruleset change kiosk-sites --include partner-sites:allow",
    )
    change.add_argument("ruleset", metavar="RULESET", help="key of the ruleset")
    change.add_argument("--name", help="name for people; none takes it back")
    change.add_argument("--ground", metavar="GROUND", help=f"{_GROUND_HELP}; none takes it back")
    change.add_argument(
        "--include",
        action="append",
        default=[],
        metavar="LIST:ACTION",
        help="have all addresses of an address list as rules of this action; may be given again",
    )
    change.add_argument(
        "--leave-out", action="append", default=[], metavar="LIST", help="no longer include this address list"
    )
    add_change(change)
    remove = ruleset.add(
        "remove", ruleset_remove, "Remove a ruleset that nothing uses.", "portero ruleset remove no-gambling"
    )
    remove.add_argument("ruleset", metavar="RULESET", help="key of the ruleset")
    add_yes(remove)
    add_change(remove)
