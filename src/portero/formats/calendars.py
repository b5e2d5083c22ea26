"""Days off from iCalendar files (RFC 5545)."""

from __future__ import annotations

import time
from collections.abc import Iterator
from datetime import date, datetime
from typing import Any

MAX_CALENDAR = 1_000_000
YEARS = 3
MOST_DAYS = 2_000
MOST_SECONDS = 10.0

_WITHIN_A_DAY = ("BYHOUR", "BYMINUTE", "BYSECOND")


class BadCalendar(ValueError):
    """The file does not read as a calendar."""


def read_days_off(data: bytes, today: date) -> list[date]:
    """The days on which the calendar's events lie, of this year and the two that follow, in order.

    Events that repeat count each time. An event with times counts for the days that it touches. BadCalendar where the
    file is none.
    """
    # read only here: few commands need calendars, and all would wait for their libraries
    import recurring_ical_events
    from icalendar import Calendar

    if len(data) > MAX_CALENDAR:
        raise BadCalendar(f"the calendar is over {MAX_CALENDAR // 1000} kB; take one that holds days off only")
    try:
        calendar = Calendar.from_ical(data)
        span = date(today.year, 1, 1), date(today.year + YEARS, 1, 1)
        found: set[date] = set()
        give_up = time.monotonic() + MOST_SECONDS
        for part in _by_event(calendar):
            found.update(day for event in recurring_ical_events.of(part).between(*span) for day in _days(event))
            if time.monotonic() > give_up:
                raise BadCalendar("its events repeat too often to go through; take one that holds days off only")
    except BadCalendar:
        raise
    except Exception as problem:
        # the parser raises whatever it stumbles over
        raise BadCalendar(f"not an iCalendar file: {str(problem)[:200] or type(problem).__name__}") from problem
    return sorted(found)


def _by_event(calendar: Any) -> Iterator[Any]:
    """A calendar for each event, with what is said of its single occurrences."""
    events: dict[object, list[Any]] = {}
    for event in calendar.walk("VEVENT"):
        rules = event.get("RRULE", [])
        for rule in rules if isinstance(rules, list) else [rules]:
            if any(word.upper() in ("HOURLY", "MINUTELY", "SECONDLY") for word in rule.get("FREQ", ())) or any(
                name in rule for name in _WITHIN_A_DAY
            ):
                raise BadCalendar("an event repeats within a day; days off repeat daily at the most")
        events.setdefault(event.get("UID") or id(event), []).append(event)
    for of_one in events.values():
        part = type(calendar)()
        part.subcomponents = of_one
        yield part


def _days(event: object) -> list[date]:
    start, end = _date(event.start), _date(event.end)  # type: ignore[attr-defined]
    # the end of an event that lasts whole days is the day after
    last = date.fromordinal(end.toordinal() - 1) if end > start and _at_midnight(event.end) else end  # type: ignore[attr-defined]
    if last.toordinal() - start.toordinal() > MOST_DAYS:
        raise BadCalendar(f"an event lasts longer than {MOST_DAYS:,} days")
    return [date.fromordinal(number) for number in range(start.toordinal(), last.toordinal() + 1)]


def _date(moment: date | datetime) -> date:
    return moment.date() if isinstance(moment, datetime) else moment


def _at_midnight(moment: date | datetime) -> bool:
    return not isinstance(moment, datetime) or (moment.hour, moment.minute, moment.second) == (0, 0, 0)
