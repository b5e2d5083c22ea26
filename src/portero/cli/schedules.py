"""Schedules: weekly windows in which assignments count."""

from __future__ import annotations

import argparse
import re
from datetime import UTC, datetime
from typing import Any

from portero.cli import output
from portero.cli.command import CommandProblem, Commands, UsageProblem, add_change, read_bytes
from portero.cli.family import NounFamily, given_in
from portero.core import wording
from portero.core.nouns.schedule import WEEK, Schedule
from portero.formats.calendars import BadCalendar, read_days_off

_WINDOW = re.compile(r"^(?P<days>[a-z,-]+)\s+(?P<from>\d\d:\d\d)-(?P<to>\d\d:\d\d)$")


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


def _tell_schedule(schedule: Any) -> None:
    output.say(f"{schedule.name} ({schedule.key}): {schedule.sentence}")
    output.say(schedule.now, indent=2)
    if schedule.days_off:
        output.say(f"Days off: {', '.join(day.isoformat() for day in schedule.days_off)}", indent=2)
    if schedule.assignments:
        output.say(f"Used by {wording.joined(schedule.assignments)}", indent=2)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    family = NounFamily(Schedule)
    verbs = family.declare(commands)
    rows = family.list(
        ("SCHEDULE", "NOW", "WINDOWS"),
        lambda schedule: (schedule.key, schedule.now, schedule.sentence),
        'There is no schedule yet: portero schedule set watch-hours --window "mon-fri 06:00-18:00"',
    )
    family.add_list(verbs, rows)
    family.add_show(verbs, family.show(_tell_schedule), "watch-hours")
    put = family.add_set(
        verbs,
        family.set(_schedule_values, _tell_schedule),
        'watch-hours --window "mon-fri 06:00-18:00" --days-off holidays.ics',
    )
    put.add_argument("--name", help="name for people")
    put.add_argument("--zone", help="device, or an IANA name such as Atlantic/Faroe")
    put.add_argument(
        "--window", action="append", metavar="WINDOW", help="as in “mon-fri 22:00-06:00”; may be given again"
    )
    put.add_argument("--day-off", action="append", metavar="DATE", help="as in 2027-01-01; may be given again")
    put.add_argument("--days-off", metavar="FILE", help="an iCalendar file whose events are days off")
    put.add_argument("--replace-days-off", action="store_true", help="drop the days off that are there")
    add_change(put)
    family.add_remove(verbs, family.remove(), "watch-hours")
