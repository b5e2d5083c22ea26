"""Web categories, rulesets and assignments."""

from __future__ import annotations

import argparse
from typing import Any

from portero.cli import output
from portero.cli.command import DONE, Commands, Context, add_csv, add_reason, add_yes, confirmed
from portero.core import sentences
from portero.core.nouns.action import Action
from portero.core.nouns.assignment import AssignmentSummary, NewAssignment
from portero.core.nouns.ruleset import Ruleset


def category_list(context: Context) -> int:
    with context.client() as portero:
        taxonomy = portero.taxonomy()
    if context.options.json:
        output.print_json(taxonomy)
        return DONE
    for family in taxonomy.families:
        output.say(f"{family.name} (family {family.key})")
        output.print_table(("", "", ""), [("  " + one.key, one.definition, one.test_host) for one in family.categories])
    return DONE


def category_lookup(context: Context) -> int:
    with context.client() as portero:
        found = portero.look_up(context.options.host)
        taxonomy = portero.taxonomy()
    if context.options.json:
        output.print_json(found)
        return DONE
    for key in found.categories:
        category = taxonomy.categories[key]
        output.say(f"{found.host} is in {category.name} ({key}): {category.definition}")
    if found.entry and found.entry != found.host:
        output.say(f"By the entry for {found.entry}, the nearest above it ({found.source}).")
    elif found.entry:
        output.say(f"By its own entry ({found.source}).")
    return DONE


# --- rulesets ---


class _AddRule(argparse.Action):
    """Collects --block, --warn, --allow and --log in the order in which they stand."""

    def __call__(self, _parser: Any, namespace: argparse.Namespace, values: Any, option: str | None = None) -> None:
        rules = [*(getattr(namespace, "rules", None) or ())]
        rules += [(str(option).removeprefix("--"), word) for word in values.split(",")]
        namespace.rules = rules


def _rule(action: str, word: str) -> dict[str, Any]:
    if word == "everything":
        return {"everything": True, "action": action}
    if word.startswith("family:"):
        return {"family": word.removeprefix("family:"), "action": action}
    return {"category": word, "action": action}


def ruleset_list(context: Context) -> int:
    with context.client() as portero:
        rulesets = list(portero.rulesets.list())
    if context.options.json:
        output.print_json(rulesets)
    elif context.options.csv:
        names = ("key", "name", "kind", "rules", "assignments", "sentence")
        output.print_csv(names, ((r.key, r.name, r.kind, len(r.rules), r.assignments, r.sentence) for r in rulesets))
    elif not rulesets:
        output.say("There is no ruleset yet: portero ruleset create no-gambling --block gambling")
    else:
        rows = [(r.key, r.kind, str(len(r.assignments)), r.sentence) for r in rulesets]
        output.print_table(("RULESET", "KIND", "ASSIGNED", "WHAT IT DOES"), rows, right=(2,))
    return DONE


def ruleset_show(context: Context) -> int:
    with context.client() as portero:
        ruleset = portero.rulesets.get(context.options.ruleset)
        assignments = list(portero.assignments.list(ruleset=ruleset.key))
    if context.options.json:
        output.print_json(ruleset)
        return DONE
    output.say(f"{ruleset.name} ({ruleset.key}), {ruleset.kind} ruleset, last changed in revision {ruleset.version}")
    output.say(ruleset.sentence)
    rows = [
        (str(number), output.mark(rule.action), str(rule.selector), rule.name or "", rule.note or "")
        for number, rule in enumerate(ruleset.rules, start=1)
    ]
    output.print_table(("", "ACTION", "SELECTOR", "NAME", "NOTE"), rows, right=(0,))
    for assignment in assignments:
        output.say(f"{assignment.key}: {assignment.sentence}", indent=2)
    return DONE


def ruleset_create(context: Context) -> int:
    options = context.options
    rules = [_rule(action, word) for action, word in getattr(options, "rules", None) or ()]
    ruleset = Ruleset.model_validate({"key": options.ruleset, "name": options.name, "kind": "category", "rules": rules})
    with context.client() as portero:
        made = portero.rulesets.create(ruleset, reason=options.reason)
    if options.json:
        output.print_json(made)
        return DONE
    output.say(f"Made ruleset {made.key}. {made.sentence}")
    output.say(f"It does nothing until it is assigned: portero assign {made.key} --to GROUP")
    return DONE


# --- assignments ---


def assign(context: Context) -> int:
    options = context.options
    new = NewAssignment(
        key=options.key,
        ruleset=options.ruleset,
        to=tuple(key for keys in options.to for key in keys.split(",")),
        action=options.action,
        mandatory=options.mandatory,
        state="draft" if options.draft else "active",
        reason=options.reason,
    )
    with context.client() as portero:
        _tell_assignment(context, portero.assignments.create(new, reason=options.reason))
    return DONE


def _tell_assignment(context: Context, assignment: AssignmentSummary) -> None:
    if context.options.json:
        output.print_json(assignment)
        return
    output.say(f"{assignment.key}: {assignment.sentence}")
    reached = sentences.counted(assignment.devices, "machine")
    if assignment.state == "active":
        output.say(f"It reaches {reached}; follow it with: portero rollout --watch")


def assignment_list(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        found = list(portero.assignments.list(ruleset=options.ruleset, group=options.group))
    if options.json:
        output.print_json(found)
    elif options.csv:
        names = ("key", "ruleset", "to", "action", "mandatory", "state", "devices", "reason")
        output.print_csv(names, ([getattr(one, name) for name in names] for one in found))
    elif not found:
        output.say("Nothing is assigned: portero assign RULESET --to GROUP")
    else:
        rows = [(a.key, a.state.value, str(a.devices), a.sentence) for a in found]
        output.print_table(("ASSIGNMENT", "STATE", "MACHINES", "WHAT IT DOES"), rows, right=(2,))
    return DONE


def _set_state(state: str) -> Any:
    def run(context: Context) -> int:
        with context.client() as portero:
            changed = portero.assignments.set_state(context.options.assignment, state, reason=context.options.reason)
        _tell_assignment(context, changed)
        return DONE

    return run


def assignment_remove(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        seen = portero.assignments.get(options.assignment)
        if not confirmed(options, f"Remove {seen.key} ({seen.sentence})?"):
            return DONE
        portero.assignments.remove(seen.key, version=seen.version, reason=options.reason)
    if options.json:
        output.print_json({"removed": seen.key})
    else:
        output.say(f"Removed {seen.key}.")
    return DONE


def register(commands: Commands) -> None:
    """Add this family's commands."""
    category = commands.noun("category", "The web taxonomy.")
    category.add("list", category_list, "List families and categories with their test hosts.", "portero category list")
    look = category.add(
        "lookup", category_lookup, "Say in which categories a host is.", "portero category lookup lucky-reef.example"
    )
    look.add_argument("host", metavar="HOST", help="a host or a URL")

    ruleset = commands.noun("ruleset", "Named lists of rules.")
    add_csv(ruleset.add("list", ruleset_list, "List rulesets.", "portero ruleset list"))
    show = ruleset.add("show", ruleset_show, "Show one ruleset.", "portero ruleset show no-gambling")
    show.add_argument("ruleset", metavar="RULESET", help="key of the ruleset")
    create = ruleset.add(
        "create",
        ruleset_create,
        "Make a ruleset of web categories.",
        "portero ruleset create quiet --block video-streaming,music --warn family:pastime --allow sport",
    )
    create.add_argument("ruleset", metavar="KEY", help="lower-case letters, digits, '-'")
    create.add_argument("--name", help="name for people")
    rules = create.add_argument_group("rules, as category keys, family:KEY or everything, joined by commas")
    for action in Action:
        rules.add_argument(f"--{action.value}", action=_AddRule, metavar="WHAT", default=argparse.SUPPRESS)
    add_reason(create)

    put = commands.add("assign", assign, "Put a ruleset on groups.", "portero assign no-gambling --to crew-mess,desks")
    put.add_argument("ruleset", metavar="RULESET", help="key of the ruleset")
    put.add_argument("--to", action="append", required=True, metavar="GROUP", help="keys of groups, joined by commas")
    put.add_argument("--action", choices=("log", "warn", "block"), help="one action for the whole ruleset")
    put.add_argument("--mandatory", action="store_true", help="no ordinary assignment can undo it")
    put.add_argument("--draft", action="store_true", help="keep it without putting it in force")
    put.add_argument("--key", help="key of the assignment; made from ruleset and group where left out")
    add_reason(put)

    assignment = commands.noun("assignment", "Rulesets put on groups.")
    listing = assignment.add("list", assignment_list, "List assignments.", "portero assignment list --group ships")
    listing.add_argument("--ruleset", help="of this ruleset only")
    listing.add_argument("--group", help="on this group only")
    add_csv(listing)
    for verb, state, summary in (
        ("pause", "paused", "Take an assignment out of force, and keep it."),
        ("resume", "active", "Put a paused or draft assignment in force."),
    ):
        made = assignment.add(verb, _set_state(state), summary, f"portero assignment {verb} no-gambling--crew-mess")
        made.add_argument("assignment", metavar="ASSIGNMENT", help="key of the assignment")
        add_reason(made)
    remove = assignment.add(
        "remove", assignment_remove, "Remove an assignment.", "portero assignment remove no-gambling--crew-mess"
    )
    remove.add_argument("assignment", metavar="ASSIGNMENT", help="key of the assignment")
    add_yes(remove)
    add_reason(remove)
