"""Rulesets put on groups and devices: where, for whom, when, how strongly."""

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
    is_person,
    joined_by_commas,
    present,
    tell_removed,
)
from portero.cli.moments import Moments
from portero.cli.warnings import warned_of_assignment
from portero.client.connection import fields_of
from portero.core import wording
from portero.core.nouns.assignment import Assignment, AssignmentSummary, NewAssignment
from portero.core.nouns.finding import FindingKind
from portero.core.nouns.moments import WAYS


def _values(options: argparse.Namespace, moments: Moments) -> dict[str, Any]:
    """What the options say of an assignment; `none` takes something back."""
    values: dict[str, Any] = {}
    targets = [
        *joined_by_commas(*options.to or ()),
        *({"device": name} for name in joined_by_commas(*options.device or ())),
    ]
    if targets:
        values["to"] = targets
    people = {
        "users": joined_by_commas(*options.user or ()),
        "user_groups": joined_by_commas(*options.user_group or ()),
    }
    if any(people.values()):
        everybody = people["users"] == [TAKE_BACK]
        values["people"] = None if everybody else people
    for name in ("action", "schedule", "starts", "ends", "notice", "owner", "ticket"):
        given = getattr(options, name)
        if name in ("starts", "ends") and given not in (None, TAKE_BACK):
            given = moments.written(f"--{name}", given, ends=name == "ends")
        if given is not None:
            values[name] = None if given == TAKE_BACK else given
    if options.hold_back is not None:
        values["hold_back"] = options.hold_back
        if options.hold_back == TAKE_BACK:
            values |= {"hold_back": None, "members": None, "came": ()}
    for name in ("mandatory", "until_restart", "replaces_weaker", "report_presence", "end_running", "place", "reason"):
        if getattr(options, name) is not None:
            values[name] = getattr(options, name)
    return values


def _days(text: str) -> str:
    """A span as the document has it: “7” are seven days."""
    return f"P{int(text)}D" if text.isdecimal() else text


def assign(context: Context) -> int:
    options = context.options
    if not options.to and not options.device:
        raise UsageProblem("say where: --to GROUP, or --device HOSTNAME")
    state = "draft" if options.draft else "active"
    with context.client() as portero:
        values = _values(options, Moments(portero))
        new = NewAssignment.model_validate({"key": options.key, "ruleset": options.ruleset, "state": state, **values})
        warnings = warned_of_assignment(portero, new)
        if options.replaces_weaker is None and any(one.code == FindingKind.OPENED_BY_WEAKER for one in warnings):
            new = new.model_copy(update={"replaces_weaker": not _may_be_opened(options)})
        _tell_assignment(context, portero.assignments.create(new, reason=options.reason))
    return DONE


def _may_be_opened(options: argparse.Namespace) -> bool:
    """Whether weaker groups may open parts of what closes everything: asked of a person, said to a program."""
    if options.preview or options.json or not is_person():
        output.note("! --replaces-weaker closes that; --no-replaces-weaker says that it may stay open.")
        return True
    return input("May weaker groups open parts of it? [Y/n] ").strip().lower() not in ("n", "no")


def _tell_assignment(context: Context, assignment: AssignmentSummary) -> None:
    def tell() -> None:
        output.say(f"{assignment.key}: {assignment.sentence}")
        reached = wording.counted(assignment.devices, "machine")
        if assignment.state == "active":
            output.say(f"It reaches {reached}; follow it with: portero rollout --watch")

    present(context, assignment, tell)


def assignment_list(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        found = list(portero.assignments.list(ruleset=options.ruleset, group=options.group, ticket=options.ticket))
    names = ("key", "ruleset", "to", "action", "mandatory", "state", "devices", "reason", "ticket")

    def tell() -> None:
        if not found:
            output.say("Nothing is assigned: portero assign RULESET --to GROUP")
        else:
            rows = [(a.key, a.state.value, str(a.devices), a.sentence) for a in found]
            output.print_table(("ASSIGNMENT", "STATE", "MACHINES", "WHAT IT DOES"), rows, right=(2,))

    return present(
        context, found, tell, csv=(names, ([_cell(assignment, name) for name in names] for assignment in found))
    )


def _cell(assignment: AssignmentSummary, name: str) -> Any:
    return (*assignment.groups, *assignment.named_devices) if name == "to" else getattr(assignment, name)


def assignment_show(context: Context) -> int:
    with context.client() as portero:
        found = portero.assignments.get(context.options.assignment)

    def tell() -> None:
        output.say(f"{found.key}, {found.state.value}, last changed in revision {found.version}")
        output.say(found.sentence)
        output.say(f"It names {wording.counted(found.devices, 'machine')} now.")
        if found.reason:
            output.say(f"Reason: {found.reason}")
        if found.ticket:
            output.say(f"Ticket: {found.ticket}")
        if found.hold_back is not None:
            known = wording.counted(len(found.members or ()), "version")
            output.say(f"{known} stopped at once; {'came later:' if found.held_back else 'nothing came later yet.'}")
            rows = [
                (one.name, f"{one.at:%Y-%m-%d}", "stopped" if one.over else f"logged until {one.until:%Y-%m-%d}")
                for one in found.held_back
            ]
            if rows:
                output.print_table(("PROGRAM", "CAME", "NOW"), rows)

    return present(context, found, tell)


def assignment_change(context: Context) -> int:
    """Change anything about an assignment, its scope included."""
    options = context.options
    with context.client() as portero:
        values = _values(options, Moments(portero))
        if options.ruleset:
            values["ruleset"] = options.ruleset
        if options.state:
            values["state"] = options.state
        if not values:
            raise UsageProblem("say what to change, for example --to GROUP or --ends TIME")
        seen = portero.assignments.get(options.assignment)
        changed = Assignment.model_validate({**fields_of(seen, Assignment), **values})
        _tell_assignment(context, portero.assignments.put(changed, version=seen.version, reason=options.reason))
    return DONE


def _set_state(state: str) -> Any:
    def run(context: Context) -> int:
        with context.client() as portero:
            changed = portero.assignments.set_state(context.options.assignment, state, reason=context.options.reason)
        _tell_assignment(context, changed)
        return DONE

    return run


def assignment_accept(context: Context) -> int:
    """Have versions that came later stopped at once from now on."""
    options = context.options
    with context.client() as portero:
        seen = portero.assignments.get(options.assignment)
        by_name = {one.name.casefold(): one.program for one in seen.held_back}
        unknown = [name for name in options.program or () if name.casefold() not in by_name]
        if unknown:
            raise CommandProblem(f"“{unknown[0]}” is not held back; see: portero assignment show {seen.key}")
        wanted = [by_name[name.casefold()] for name in options.program] if options.program else None
        changed = portero.assignments.accept(seen.key, wanted, reason=options.reason)
    before = len(seen.held_back) - len(changed.held_back)
    return present(
        context, changed, lambda: output.say(f"{changed.key}: {wording.counted(before, 'version')} accepted.")
    )


def assignment_remove(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        seen = portero.assignments.get(options.assignment)
        if not confirmed(options, f"Remove {seen.key} ({seen.sentence})?"):
            return DONE
        portero.assignments.remove(seen.key, version=seen.version, reason=options.reason)
    tell_removed(context, seen.key)
    return DONE


# --- declaring ---


def _add_scope(parser: argparse.ArgumentParser, changing: bool) -> None:
    """The options that say where, for whom, when and how strongly."""
    back = "; none takes it back" if changing else ""
    where = parser.add_argument_group("where and for whom")
    where.add_argument("--to", action="append", metavar="GROUP", help="keys of groups, joined by commas")
    where.add_argument("--device", action="append", metavar="HOSTNAME", help="single machines, joined by commas")
    where.add_argument("--user", action="append", metavar="NAME", help=f"only these people{back}")
    where.add_argument("--user-group", action="append", metavar="KEY", help="only people in these user groups")
    where.add_argument("--place", choices=("anywhere", "on-site", "off-site"), help="only while the machine is there")
    when = parser.add_argument_group("when")
    when.add_argument("--schedule", metavar="KEY", help=f"only while a window of it is open{back}")
    when.add_argument("--starts", metavar="TIME", help=f"from then on: {WAYS}{back}")
    when.add_argument("--ends", metavar="TIME", help=f"until just before then{back}")
    switch: dict[str, Any] = (
        {"action": argparse.BooleanOptionalAction} if changing else {"action": "store_true", "default": None}
    )
    when.add_argument("--until-restart", **switch, help="until the machine next starts")
    how = parser.add_argument_group("how strongly")
    actions = ["log", "warn", "block", *([TAKE_BACK] if changing else [])]
    how.add_argument("--action", choices=actions, help=f"one action for the whole ruleset{back}")
    how.add_argument("--mandatory", **switch, help="no ordinary assignment can undo it")
    weaker = "puts weaker groups' rulesets of the same kind out of play"
    how.add_argument("--replaces-weaker", action=argparse.BooleanOptionalAction, help=weaker)
    presence = "machines that have a program which it stops are found, started or not"
    ends = "startup: end programs that it stops and that run already, after a notice"
    how.add_argument("--end-running", action=argparse.BooleanOptionalAction, help=ends)
    how.add_argument("--report-presence", action=argparse.BooleanOptionalAction, help=presence)
    later = "programs that its sets take in later are only logged for so many days (7), or as in PT12H, at first"
    how.add_argument("--hold-back", metavar="DAYS", type=_days, help=later + back)
    how.add_argument("--notice", metavar="KEY", help=f"what the person is shown{back}")
    how.add_argument("--owner", metavar="NAME", help=f"who answers for it, which makes it an exception{back}")
    how.add_argument("--ticket", metavar="TEXT", help=f"the change request that it goes back to{back}")


def register(commands: Commands) -> None:
    """Add this family's commands."""
    put = commands.add(
        "assign",
        assign,
        "Put a ruleset on groups or single machines.",
        "portero assign no-gambling --to crew-mess,desks --schedule watch-hours",
    )
    put.add_argument("ruleset", metavar="RULESET", help="key of the ruleset")
    _add_scope(put, changing=False)
    put.add_argument("--draft", action="store_true", help="keep it without putting it in force")
    put.add_argument("--key", help="key of the assignment; made from ruleset and group where left out")
    add_change(put)

    assignment = commands.noun("assignment", "Rulesets put on groups and machines.", of="assignment")
    listing = assignment.add("list", assignment_list, "List assignments.", "portero assignment list --group ships")
    listing.add_argument("--ruleset", help="of this ruleset only")
    listing.add_argument("--group", help="on this group only")
    listing.add_argument("--ticket", metavar="TEXT", help="of this change request only")
    add_csv(listing)
    show = assignment.add(
        "show", assignment_show, "Show one assignment.", "portero assignment show no-gambling--crew-mess"
    )
    change = assignment.add(
        "change",
        assignment_change,
        "Change anything about an assignment, its scope included.",
        "portero assignment change no-gambling--crew-mess --to crew-mess,desks --ends 2027-03-01T00:00:00Z",
    )
    _add_scope(change, changing=True)
    change.add_argument("--ruleset", metavar="RULESET", help="another ruleset")
    change.add_argument("--state", choices=("draft", "active", "paused"))
    add_change(change)
    made = [show, change]
    for verb, state, summary in (
        ("pause", "paused", "Take an assignment out of force, and keep it."),
        ("resume", "active", "Put a paused or draft assignment in force."),
    ):
        made.append(
            assignment.add(verb, _set_state(state), summary, f"portero assignment {verb} no-gambling--crew-mess")
        )
        add_change(made[-1])
    accept = assignment.add(
        "accept",
        assignment_accept,
        "Stop at once what came later and is held back.",
        'portero assignment accept no-viewer--workshop --program "Deckhand Viewer 4.3"',
    )
    accept.add_argument("--program", action="append", metavar="NAME", help="as the assignment shows it; all otherwise")
    add_change(accept)
    made.append(accept)
    made.append(
        assignment.add(
            "remove", assignment_remove, "Remove an assignment.", "portero assignment remove no-gambling--crew-mess"
        )
    )
    add_yes(made[-1])
    add_change(made[-1])
    for parser in made:
        parser.add_argument("assignment", metavar="ASSIGNMENT", help="key of the assignment")
