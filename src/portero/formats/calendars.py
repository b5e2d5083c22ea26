"""Days off from iCalendar files (RFC 5545)."""

from __future__ import annotations

from datetime import date, datetime

MAX_CALENDAR = 1_000_000
YEARS = 3
MOST_DAYS = 2_000


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
        events = recurring_ical_events.of(calendar).between(date(today.year, 1, 1), date(today.year + YEARS, 1, 1))
        found = {day for event in events for day in _days(event)}
    except BadCalendar:
        raise
    except Exception as problem:
        # the parser raises whatever it stumbles over
        raise BadCalendar(f"not an iCalendar file: {str(problem)[:200] or type(problem).__name__}") from problem
    return sorted(found)


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
