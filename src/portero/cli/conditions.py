"""What rules and assignments refer to: schedules, application sets, services, notices; and the directory."""

from __future__ import annotations

import argparse
import re
from datetime import UTC, datetime
from typing import Any

from portero.cli import output
from portero.cli.checking import read_or_tell
from portero.cli.command import (
    DONE,
    CommandProblem,
    Commands,
    Context,
    UsageProblem,
    add_change,
    read_bytes,
)
from portero.cli.keeping import Family, add_list, add_remove, add_show, given_in
from portero.core import sentences
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.notice import Notice
from portero.core.nouns.schedule import WEEK, Schedule
from portero.core.nouns.service import Decision, Service
from portero.formats.calendars import BadCalendar, read_days_off
from portero.formats.estate_document import read_directory

_WINDOW = re.compile(r"^(?P<days>[a-z,-]+)\s+(?P<from>\d\d:\d\d)-(?P<to>\d\d:\d\d)$")


# --- schedules ---


def _days(text: str) -> list[str]:
    found: list[str] = []
    for part in text.split(","):
        first, _, last = part.partition("-")
        if first not in WEEK or (last and last not in WEEK):
            raise UsageProblem(f"“{part}” is no day or span of days; write mon, tue … sun, or mon-fri")
        begin, end = list(WEEK).index(first), list(WEEK).index(last or first)  # type: ignore[arg-type]
        found += [WEEK[number % 7] for number in range(begin, end + 1 if end >= begin else end + 8)]
    return list(dict.fromkeys(found))


def _window(text: str) -> dict[str, Any]:
    found = _WINDOW.match(" ".join(text.lower().split()))
    if found is None:
        raise UsageProblem(f"“{text}” is not a window; write it as in “mon-fri 06:00-18:00”")
    return {"days": _days(found["days"]), "from": found["from"], "to": found["to"]}


def _schedule_values(options: argparse.Namespace, before: dict[str, Any]) -> dict[str, Any]:
    values = given_in(options, "name", "zone")
    if options.window:
        values["windows"] = [_window(text) for text in options.window]
    days = [*(options.day_off or ()), *(_read_calendar(options.days_off) if options.days_off else ())]
    if days:
        kept = () if options.replace_days_off else before.get("days_off", ())
        values["days_off"] = sorted({*kept, *days})
    elif options.replace_days_off:
        values["days_off"] = []
    return values


def _read_calendar(name: str) -> list[str]:
    try:
        return [day.isoformat() for day in read_days_off(read_bytes(name), datetime.now(UTC).date())]
    except BadCalendar as problem:
        raise CommandProblem(f"{name}: {problem}") from problem


def _tell_schedule(one: Any) -> None:
    output.say(f"{one.name} ({one.key}): {one.sentence}")
    output.say(one.now, indent=2)
    if one.days_off:
        output.say(f"Days off: {', '.join(day.isoformat() for day in one.days_off)}", indent=2)
    if one.assignments:
        output.say(f"Used by {sentences.joined(one.assignments)}", indent=2)


def _register_schedules(commands: Commands) -> None:
    family = Family("schedule", Schedule, lambda portero: portero.schedules)
    noun = commands.noun("schedule", "Weekly windows in which assignments count.")
    rows = family.list(
        ("SCHEDULE", "NOW", "WINDOWS"),
        lambda one: (one.key, one.now, one.sentence),
        'There is no schedule yet: portero schedule set watch-hours --window "mon-fri 06:00-18:00"',
    )
    add_list(noun, rows, "schedule")
    add_show(noun, family.show(_tell_schedule), "schedule", "watch-hours")
    put = noun.add(
        "set",
        family.set(_schedule_values, _tell_schedule),
        "Make a schedule, or change the one of that key.",
        'portero schedule set watch-hours --window "mon-fri 06:00-18:00" --days-off holidays.ics',
    )
    put.add_argument("key", metavar="KEY")
    put.add_argument("--name", help="name for people")
    put.add_argument("--zone", help="device, or an IANA name such as Atlantic/Faroe")
    put.add_argument(
        "--window", action="append", metavar="WINDOW", help="as in “mon-fri 22:00-06:00”; may be given again"
    )
    put.add_argument("--day-off", action="append", metavar="DATE", help="as in 2027-01-01; may be given again")
    put.add_argument("--days-off", metavar="FILE", help="an iCalendar file whose events are days off")
    put.add_argument("--replace-days-off", action="store_true", help="drop the days off that are there")
    add_change(put)
    add_remove(noun, family.remove(), "schedule", "watch-hours")


# --- application sets ---

_CONDITION = re.compile(r"^(sha256|path|product|file|signer|vendor|category|version)(<=|>=|=|<)(.+)$")
_BOUNDS = {"<": "below", "<=": "to", ">=": "from", "=": "is"}


def _condition(text: str) -> dict[str, Any]:
    """`product=Deckhand Viewer;version<4.2` as a condition."""
    made: dict[str, Any] = {}
    for part in text.split(";"):
        found = _CONDITION.match(part.strip())
        if found is None or (found[1] != "version" and found[2] != "="):
            raise UsageProblem(f"“{part}” is not a condition; write it as in “product=Deckhand Viewer;version<4.2”")
        if found[1] == "version":
            made.setdefault("version", {})[_BOUNDS[found[2]]] = found[3].strip()
        else:
            made[found[1]] = found[3].strip()
    return made


def _set_values(options: argparse.Namespace, before: dict[str, Any]) -> dict[str, Any]:
    values = given_in(options, "name")
    for name in ("include", "exclude"):
        if getattr(options, name):
            values[name] = [_condition(text) for text in getattr(options, name)]
    if options.freeze:
        values |= {"following": False, "frozen_members": None}
    elif options.follow or not before.get("following", True):
        values |= {"following": options.follow, "frozen_members": None if options.follow else before["frozen_members"]}
    return values


def _tell_set(one: Any) -> None:
    output.say(f"{one.name} ({one.key}): {one.sentence}")
    for sha256 in one.frozen_members or ():
        output.say(sha256, indent=2)
    if one.rulesets:
        output.say(f"Named by {sentences.joined(one.rulesets)}", indent=2)


def _register_sets(commands: Commands) -> None:
    family = Family("application-set", ApplicationSet, lambda portero: portero.application_sets)
    noun = commands.noun("application-set", "Named sets of programs.")
    example = 'remote-control --include "category=remote-access"'
    rows = family.list(
        ("APPLICATION SET", "WHICH PROGRAMS"),
        lambda one: (one.key, one.sentence),
        f"There is no application set yet: portero application-set set {example}",
    )
    add_list(noun, rows, "application set")
    add_show(noun, family.show(_tell_set), "application set", "remote-control")
    put = noun.add(
        "set",
        family.set(_set_values, _tell_set),
        "Make an application set, or change the one of that key.",
        f'portero application-set set {example} --exclude "signer=Brackwater Ferries IT"',
    )
    put.add_argument("key", metavar="KEY")
    put.add_argument("--name", help="name for people")
    put.add_argument(
        "--include",
        action="append",
        metavar="CONDITION",
        help="as in “product=Deckhand Viewer;version<4.2”; may be given again",
    )
    put.add_argument("--exclude", action="append", metavar="CONDITION", help="what is not held after all")
    how = put.add_mutually_exclusive_group()
    how.add_argument("--freeze", action="store_true", help="hold what machines have now, and nothing later")
    how.add_argument("--follow", action="store_true", help="take in what is found later")
    add_change(put)
    add_remove(noun, family.remove(), "application set", "remote-control")


# --- services ---


def _service_values(options: argparse.Namespace, before: dict[str, Any]) -> dict[str, Any]:
    values = given_in(options, "name", "suitability", "decision", "note")
    if options.host:
        values["hosts"] = options.host
    if options.trait:
        values["traits"] = {**before.get("traits", {}), **dict(map(_trait, options.trait))}
    return values


def _trait(text: str) -> tuple[str, bool | int | str]:
    name, sign, value = text.partition("=")
    if not sign:
        raise UsageProblem(f"“{text}” is not a trait; write it as in second_factor=yes")
    words: dict[str, bool] = {"yes": True, "true": True, "no": False, "false": False}
    return name, words[value] if value in words else int(value) if value.isdigit() else value


def _tell_service(one: Any) -> None:
    judged = "not judged" if one.suitability is None else f"suitability {one.suitability}"
    output.say(f"{one.name} ({one.key}), {judged}, {one.decision.value}: {', '.join(one.hosts)}")
    for name, value in one.traits.items():
        output.say(f"{name}: {'yes' if value is True else 'no' if value is False else value}", indent=2)


def _register_services(commands: Commands) -> None:
    family = Family("service", Service, lambda portero: portero.services)
    noun = commands.noun("service", "Web applications known by their hosts.")
    example = "quick-drop --host quickdrop.example --suitability 15 --decision declined"
    rows = family.list(
        ("SERVICE", "NAME", "SUITABILITY", "DECISION", "HOSTS"),
        lambda one: (
            one.key,
            one.name,
            "–" if one.suitability is None else str(one.suitability),
            one.decision.value,
            ", ".join(one.hosts),
        ),
        f"There is no service yet: portero service set {example}",
    )
    add_list(noun, rows, "service")
    add_show(noun, family.show(_tell_service), "service", "quick-drop")
    put = noun.add(
        "set",
        family.set(_service_values, _tell_service),
        "Make a service, or change the one of that key.",
        f"portero service set {example}",
    )
    put.add_argument("key", metavar="KEY")
    put.add_argument("--name", help="name for people")
    put.add_argument("--host", action="append", metavar="HOST", help="a host of it, and all below; may be given again")
    put.add_argument("--suitability", type=int, metavar="0-100", help="100 is best")
    put.add_argument("--decision", choices=[one.value for one in Decision], help="what was decided")
    put.add_argument("--trait", action="append", metavar="NAME=VALUE", help="as in second_factor=no")
    put.add_argument("--note", help="a note")
    add_change(put)
    add_remove(noun, family.remove(), "service", "quick-drop")


# --- notices ---


def _tell_notice(one: Any) -> None:
    output.say(f"{one.name or one.key} ({one.key})")
    for name in ("title", "text", "contact", "picture"):
        if getattr(one, name):
            output.say(f"{name}: {getattr(one, name)}", indent=2)


def _register_notices(commands: Commands) -> None:
    family = Family("notice", Notice, lambda portero: portero.notices)
    noun = commands.noun("notice", "What people see when something is warned or blocked.")
    example = 'bridge --text "The bridge is for navigation." --contact "the watch desk"'
    rows = family.list(
        ("NOTICE", "TITLE", "TEXT"),
        lambda one: (one.key, one.title or "", one.text or ""),
        f"There is only the standard one: portero notice set {example}",
    )
    add_list(noun, rows, "notice")
    add_show(noun, family.show(_tell_notice), "notice", "bridge")
    names = ("name", "title", "text", "contact", "picture")
    put = noun.add(
        "set",
        family.set(lambda options, _before: given_in(options, *names), _tell_notice),
        "Make a notice, or change the one of that key.",
        f"portero notice set {example}",
    )
    put.add_argument("key", metavar="KEY")
    for name in names:
        put.add_argument(f"--{name}", help=f"its {name}")
    add_change(put)
    add_remove(noun, family.remove(), "notice", "bridge")


# --- the directory ---


def directory_show(context: Context) -> int:
    """Say how many people and user groups there are."""
    with context.client() as portero:
        found = portero.directory.get()
    if context.options.json:
        output.print_json(found)
        return DONE
    people = sentences.counted(len(found.users), "person", "people")
    output.say(f"Generation {found.generation}, brought in by {found.by}: {people}.")
    rows = [(one.key, str(len(one.users)), ", ".join(one.user_groups)) for one in found.user_groups]
    output.print_table(("USER GROUP", "PEOPLE", "TAKES IN"), rows, right=(1,))
    return DONE


def directory_put(context: Context) -> int:
    """Take a new generation into use."""
    name = context.options.file
    directory = read_or_tell(name, lambda: read_directory(read_bytes(name)))
    with context.client() as portero:
        made = portero.directory.put(directory)
    if context.options.json:
        output.print_json(made)
    else:
        groups = sentences.counted(len(made.user_groups), "user group")
        output.say(f"Generation {made.generation} of the directory counts now: {groups}.")
    return DONE


def register(commands: Commands) -> None:
    """Add this family's commands."""
    _register_schedules(commands)
    _register_sets(commands)
    _register_services(commands)
    _register_notices(commands)
    directory = commands.noun("directory", "People and their user groups.")
    directory.add("show", directory_show, "Show user groups.", "portero directory show")
    put = directory.add(
        "put",
        directory_put,
        "Bring people and user groups in, whole, from a file in the shape of a facts document's “directory”.",
        "portero directory put people.yaml",
    )
    put.add_argument("file", metavar="FILE", help="YAML or JSON; - reads standard input")
