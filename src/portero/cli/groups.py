"""Groups and their one order."""

from __future__ import annotations

import argparse
import textwrap
from typing import Any

from pydantic import ValidationError

from portero.cli import output
from portero.cli.command import (
    DONE,
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
from portero.client import Portero
from portero.core import wording
from portero.core.nouns.faults import fault_of
from portero.core.nouns.group import (
    BUILT_IN,
    CopiedGroup,
    Group,
    GroupPreview,
    GroupSummary,
    Pins,
    Precedence,
)
from portero.core.nouns.membership import MembershipRule, membership_fields, read_condition
from portero.core.nouns.readiness import BlockerCode


def group_list(context: Context) -> int:
    with context.client() as portero:
        groups = list(portero.groups.list())
    names = ("precedence", "key", "name", "devices", "members")

    def tell() -> None:
        rows = [(str(g.precedence), g.key, g.name, str(g.devices), g.sentence) for g in groups]
        output.print_table(("", "GROUP", "NAME", "MACHINES", "HOLDS"), rows, right=(0, 3))

    return present(
        context, groups, tell, csv=(names, ((g.precedence, g.key, g.name, g.devices, g.sentence) for g in groups))
    )


def group_show(context: Context) -> int:
    key = context.options.group
    with context.client() as portero:
        group = portero.groups.get(key)
        assignments = list(portero.assignments.list(group=key))
        modes = [layer_mode for layer_mode in portero.layer_modes.list() if layer_mode.group == key]

    def tell() -> None:
        output.say(f"{group.name} ({group.key}), number {group.precedence} in precedence")
        output.say(f"Holds {wording.counted(group.devices, 'machine')}: {group.sentence}.")
        for where, pins in (("in", group.pins.in_), ("out", group.pins.out)) if group.pins else ():
            for pin in pins:
                output.say(f"pinned {where}: {pin.device}" + (f", {pin.reason}" if pin.reason else ""), indent=2)
        if group.check_in_seconds:
            output.say(f"checks in every {group.check_in_seconds:,} seconds", indent=2)
        for layer_mode in modes:
            words = [
                f"{name} {mode}" for name in ("filter", "browser", "startup") if (mode := getattr(layer_mode, name))
            ]
            output.say(f"layers: {', '.join(words)}", indent=2)
        for assignment in assignments:
            output.say(f"{assignment.key}: {assignment.sentence}", indent=2)
        if not assignments:
            output.say(f"Nothing is assigned to it yet: portero assign RULESET --to {group.key}")

    return present(context, {"group": group, "assignments": assignments, "layer_modes": modes}, tell)


# --- making and changing ---


def _condition(text: str) -> Any:
    try:
        return read_condition(text)
    except ValidationError as problem:
        raise UsageProblem(f"“{text}”: {fault_of(problem.errors()[0])}") from problem
    except ValueError as problem:
        raise UsageProblem(str(problem)) from problem


def _rule(options: argparse.Namespace) -> MembershipRule | None:
    """The membership rule that the options give; None where they give none."""
    parts = {"all": options.where, "any": options.any, "none": options.none}
    given = {name: [_condition(text) for text in texts] for name, texts in parts.items() if texts}
    return MembershipRule.model_validate(given) if given else None


def _changed_rule(options: argparse.Namespace, before: MembershipRule | None) -> MembershipRule | None:
    """The rule before, with each part that the options give in place of its own."""
    given = _rule(options)
    if given is None or before is None:
        return given or before
    parts = {name: getattr(given, name) or getattr(before, name) for name in ("all", "any", "none")}
    return MembershipRule.model_validate(parts)


def _pins(options: argparse.Namespace, before: Pins | None) -> Pins | None:
    """The pins as the options change them."""
    kept: dict[str, list[Any]] = {"in": list(before.in_) if before else [], "out": list(before.out) if before else []}
    gone = {name.lower() for name in (*options.pin_in, *options.pin_out, *getattr(options, "unpin", ()))}
    for where, names in (("in", options.pin_in), ("out", options.pin_out)):
        kept[where] = [pin for pin in kept[where] if pin.device.lower() not in gone]
        kept[where] += [{"device": name, "reason": options.reason} for name in names]
    return Pins.model_validate(kept) if kept["in"] or kept["out"] else None


def _check_in(options: argparse.Namespace, before: int | None) -> int | None:
    """How far apart check-ins are to be; 0 leaves it to weaker groups and the settings."""
    return before if options.check_in is None else options.check_in or None


def _from_blocker(portero: Portero, text: str) -> MembershipRule:
    code, _, layer = text.partition(":")
    for blocker in portero.readiness.fleet().blockers:
        if blocker.code == code and (not layer or blocker.layer == layer):
            if blocker.group_rule is None:
                raise CommandProblem(f"no condition can say “{text}”; list the machines with device list --blocker")
            return blocker.group_rule
    raise CommandProblem(f"nothing of the kind “{text}” stands in any machine's way; see portero readiness")


def group_create(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        members = _from_blocker(portero, options.from_blocker) if options.from_blocker else _rule(options)
        group = Group(
            key=options.group,
            name=options.name,
            members=members,
            pins=_pins(options, None),
            check_in_seconds=_check_in(options, None),
        )
        if options.preview and not options.json:
            _tell_membership(portero.groups.preview(group))
        if options.above:
            # refused before anything is made
            _beside(list(portero.groups.order().precedence), group.key, options.above)
        made = portero.groups.create(group, reason=options.reason)
        if options.above:
            state = portero.groups.order()
            order = Precedence(precedence=tuple(_beside(list(state.precedence), made.key, options.above)))
            portero.groups.put_order(order, version=state.version, reason=options.reason)
            made = portero.groups.get(made.key)
    _tell_group(context, "Made", made)
    return DONE


def group_edit(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        seen = portero.groups.get(options.group)
        if seen.built_in:
            raise CommandProblem(f"“{seen.key}” is built in; it holds whom it must")
        rule = None if options.no_rule else _changed_rule(options, seen.members)
        name = options.name or (None if seen.name == seen.key else seen.name)
        group = Group(
            key=seen.key,
            name=name,
            members=rule,
            pins=_pins(options, seen.pins),
            check_in_seconds=_check_in(options, seen.check_in_seconds),
        )
        if options.preview and not options.json:
            _tell_membership(portero.groups.preview(group))
        made = portero.groups.put(group, version=seen.version, reason=options.reason)
    _tell_group(context, "Changed", made)
    return DONE


def _tell_group(context: Context, verb: str, group: GroupSummary) -> None:
    def tell() -> None:
        held = wording.counted(group.devices, "machine")
        output.say(f"{verb} group {group.key}; it holds {held}: {group.sentence}.")
        output.say(f"It is number {group.precedence} in precedence, the strongest being 1.")

    present(context, group, tell)


def _tell_membership(preview: GroupPreview) -> None:
    output.say(f"Would hold {wording.counted(preview.devices, 'machine')}: {preview.sentence}.")
    for number, words, examples in (
        (preview.comes_in, "would come in", preview.comes_in_examples),
        (preview.drops_out, "would drop out", preview.drops_out_examples),
    ):
        if number:
            output.say(f"{number} {words}: {', '.join(examples)}{' …' if number > len(examples) else ''}", indent=2)
    if preview.beside:
        also = [f"{group.group} ({group.devices})" for group in preview.beside]
        output.say(f"also in: {', '.join(also)}", indent=2)
    for missing in preview.missing:
        held = f"{missing.devices} held only because they do not report it: not ({missing.condition})"
        output.say(f"! {held}, as {', '.join(missing.examples)}", indent=2)
    if preview.unknown_pins:
        output.say(f"! no machine of that name is known: {', '.join(preview.unknown_pins)}", indent=2)


def group_copy(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        new = CopiedGroup(key=options.new, name=options.name)
        made = portero.groups.copy(options.group, new, reason=options.reason)
    _tell_group(context, "Made", made)
    return DONE


def group_remove(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        seen = portero.groups.get(options.group)
        held = wording.counted(seen.devices, "machine")
        if not confirmed(options, f"Remove group {seen.key}, which holds {held}?"):
            return DONE
        portero.groups.remove(seen.key, version=seen.version, reason=options.reason)
    tell_removed(context, seen.key, "group")
    return DONE


# --- the one order ---


def _moved(order: list[str], options: argparse.Namespace) -> list[str]:
    if options.group not in order:
        raise CommandProblem(f"there is no group “{options.group}” to move")
    rest = [key for key in order if key != options.group]
    if options.first or options.last:
        place = 0 if options.first else len(rest)
    else:
        return _beside(rest, options.group, options.above or options.below, below=bool(options.below))
    return [*rest[:place], options.group, *rest[place:]]


def _beside(order: list[str], group: str, other: str, *, below: bool = False) -> list[str]:
    """The order with a group right above another one, or right below it."""
    rest = [key for key in order if key != group]
    if other not in rest:
        raise CommandProblem(f"there is no group “{other}” to stand beside")
    place = rest.index(other) + (1 if below else 0)
    return [*rest[:place], group, *rest[place:]]


def group_move(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        state = portero.groups.order()
        order = Precedence(precedence=tuple(_moved(list(state.precedence), options)))
        made = portero.groups.put_order(order, version=state.version, reason=options.reason)
    return present(context, made, lambda: output.say("Strongest first: " + ", ".join((*made.precedence, *BUILT_IN))))


def group_overlaps(context: Context) -> int:
    with context.client() as portero:
        found = portero.board.group_overlaps()

    def tell() -> None:
        sizes = {group.target: group.devices for group in found.groups}
        rows = []
        for overlap in found.shared:
            stronger, weaker = overlap.groups
            rows.append((stronger, str(sizes[stronger]), str(overlap.devices), str(sizes[weaker]), weaker))
        output.print_table(("STRONGER", "OF", "SHARED", "OF", "WEAKER"), rows, right=(1, 2, 3))

    return present(context, found, tell)


_MORE_EXAMPLES = (
    '  portero group create old-viewers --where "applications has product=Deckhand Viewer;version<4.2" --above laptops'
)


def _fields() -> str:
    """The facts that conditions may name, and how each is compared."""
    by_ops: dict[tuple[str, ...], list[str]] = {}
    for field in membership_fields():
        by_ops.setdefault(tuple(op.value for op in field.ops), []).append(field.field)
    lines = [
        textwrap.fill(f"{', '.join(fields)}: {', '.join(ops)}", 96, initial_indent="  ", subsequent_indent="    ")
        for ops, fields in by_ops.items()
    ]
    return "Facts, and how they are compared:\n" + "\n".join(lines)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    group = commands.noun("group", "Groups of machines.", of="group")
    listing = group.add("list", group_list, "List groups, strongest first.", "portero group list")
    add_csv(listing)
    group.add("overlaps", group_overlaps, "Say how many machines every two groups share.", "portero group overlaps")
    show = group.add("show", group_show, "Show one group and what is assigned to it.", "portero group show ships")
    show.add_argument("group", metavar="GROUP", help="key of the group")
    create = group.add(
        "create",
        group_create,
        "Make a group.",
        'portero group create ships --where "unit under brackwater/ships" --none "kind is kiosk"',
    )
    create.add_argument("group", metavar="KEY", help="lower-case letters, digits, '-'")
    create.add_argument("--above", metavar="GROUP", help="right above this one, and so stronger (the weakest)")
    create.epilog = f"{create.epilog}\n{_MORE_EXAMPLES}\n\n{_fields()}"
    codes = ", ".join(code.value for code in BlockerCode)
    create.add_argument("--from-blocker", metavar="CODE[:LAYER]", help=f"those with this in the way: {codes}")
    edit = group.add(
        "edit",
        group_edit,
        "Change a group's rule, pins or name.",
        'portero group edit pilot --pin-in office-laptop-04 --reason "asked for" --preview',
    )
    edit.add_argument("group", metavar="GROUP", help="key of the group")
    edit.description = "Change a group. Conditions that are given stand in place of those of the same sort."
    edit.add_argument("--no-rule", action="store_true", help="without a membership rule, by pins only")
    edit.add_argument("--unpin", action="append", default=[], metavar="DEVICE", help="take a pin out")
    for made in (create, edit):
        _add_members(made)
    copy = group.add("copy", group_copy, "Copy a group.", "portero group copy desks night-desks")
    copy.add_argument("group", metavar="GROUP", help="key of the group")
    copy.add_argument("new", metavar="KEY", help="key of the copy")
    copy.add_argument("--name", help="name of the copy")
    add_change(copy)
    remove = group.add("remove", group_remove, "Remove a group that nothing names.", "portero group remove night-desks")
    remove.add_argument("group", metavar="GROUP", help="key of the group")
    add_yes(remove)
    add_change(remove)
    move = group.add(
        "move", group_move, "Give a group another place in the precedence.", "portero group move pilot --above bridge"
    )
    move.add_argument("group", metavar="GROUP", help="key of the group")
    where = move.add_mutually_exclusive_group(required=True)
    where.add_argument("--above", metavar="GROUP", help="right above this one, and so stronger")
    where.add_argument("--below", metavar="GROUP", help="right below this one, and so weaker")
    where.add_argument("--first", action="store_true", help="the strongest of all")
    where.add_argument("--last", action="store_true", help="the weakest but for the built-in ones")
    add_change(move)


def _add_members(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--name", help="name for people")
    often = "how far apart its machines' check-ins are (0: as weaker groups and the settings say)"
    parser.add_argument("--check-in", type=int, metavar="SECONDS", help=often)
    conditions = parser.add_argument_group("who is in it, as “FIELD OP VALUE” (one_of takes a,b,c)")
    conditions.add_argument("--where", action="append", metavar="CONDITION", help="all of these must hold")
    conditions.add_argument("--any", action="append", metavar="CONDITION", help="at least one of these must hold")
    conditions.add_argument("--none", action="append", metavar="CONDITION", help="none of these may hold")
    pins = parser.add_argument_group("by hand")
    pins.add_argument("--pin-in", action="append", default=[], metavar="DEVICE", help="put this machine in")
    pins.add_argument("--pin-out", action="append", default=[], metavar="DEVICE", help="keep this machine out")
    add_change(parser)
