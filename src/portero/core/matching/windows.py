"""When a schedule's windows are open: on the wall clock of a zone, days off and clock changes counted."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime, time, timedelta, tzinfo
from typing import NamedTuple
from zoneinfo import ZoneInfo

from portero.core.nouns.schedule import DEVICE_ZONE, WEEK, Schedule

FURTHEST = timedelta(days=400)
"""How far ahead the next change is looked for: a schedule may be closed for a year of days off."""


class Span(NamedTuple):
    """One window: the days it opens on (Monday is 0), when it opens and closes; overnight where it closes the next."""

    days: frozenset[int]
    opens: time
    closes: time

    @property
    def overnight(self) -> bool:
        """Whether it closes on the day after it opened."""
        return self.closes <= self.opens


class Windows:
    """A schedule made ready to be asked."""

    def __init__(self, zone: str, spans: tuple[Span, ...], days_off: frozenset[date]) -> None:
        self.follows_device = zone == DEVICE_ZONE
        self._zone: tzinfo | None = None if self.follows_device else ZoneInfo(zone)
        self._spans, self._days_off = spans, days_off

    @classmethod
    def of(cls, schedule: Schedule) -> Windows:
        """The windows of a schedule."""
        spans = tuple(
            Span(frozenset(map(WEEK.index, window.days)), window.opens, window.closes) for window in schedule.windows
        )
        return cls(schedule.zone, spans, frozenset(schedule.days_off))

    def zone(self, device_zone: str | None) -> tzinfo:
        """The zone whose wall clock counts; UTC where it follows a device of which none is known."""
        return self._zone or (ZoneInfo(device_zone) if device_zone else UTC)

    def is_open(self, at: datetime, device_zone: str | None = None) -> bool:
        """Whether a window is open at a moment (any zone), on a device in this zone."""
        return self._is_open_on_clock(at.astimezone(self.zone(device_zone)))

    def _is_open_on_clock(self, local: datetime) -> bool:
        clock, today = local.time(), local.date()
        yesterday = today - timedelta(days=1)
        opens_today = today not in self._days_off
        opened_yesterday = yesterday not in self._days_off
        weekday = today.weekday()
        for span in self._spans:
            if opens_today and weekday in span.days and span.opens <= clock and (span.overnight or clock < span.closes):
                return True
            if opened_yesterday and span.overnight and (weekday - 1) % 7 in span.days and clock < span.closes:
                return True
        return False

    def next_change(self, at: datetime, device_zone: str | None = None) -> datetime | None:
        """When it next opens or closes after a moment, in UTC; None where it does not within a year or so."""
        zone, now = self.zone(device_zone), self.is_open(at, device_zone)
        for moment in self._moments(at.astimezone(zone), zone):
            if moment > at and self.is_open(moment, device_zone) != now:
                return moment
        return None

    def starts_of_days_off(self, device_zone: str | None = None) -> Iterator[datetime]:
        """When its days off begin, in UTC."""
        zone = self.zone(device_zone)
        return (datetime.combine(day, time(), zone).astimezone(UTC) for day in self._days_off)

    def _moments(self, local: datetime, zone: tzinfo) -> Iterator[datetime]:
        """The moments at which something may change, in order: edges of windows, and clock changes."""
        edges = sorted({edge for span in self._spans for edge in (span.opens, span.closes, time())})
        day = local.date() - timedelta(days=1)
        for _ in range(FURTHEST.days):
            found = {
                datetime.combine(day, edge, zone).replace(fold=fold).astimezone(UTC)
                for edge in edges
                for fold in (0, 1)
            }
            yield from sorted(found | set(_clock_changes(day, zone)))
            day += timedelta(days=1)


def _clock_changes(day: date, zone: tzinfo) -> Iterator[datetime]:
    """The moment of the day, if any, from which the zone has another offset."""
    low = datetime.combine(day, time(), zone).astimezone(UTC)
    high = datetime.combine(day + timedelta(days=1), time(), zone).astimezone(UTC)
    if low.astimezone(zone).utcoffset() == high.astimezone(zone).utcoffset():
        return
    while high - low > timedelta(seconds=1):
        middle = low + (high - low) / 2
        if middle.astimezone(zone).utcoffset() == low.astimezone(zone).utcoffset():
            low = middle
        else:
            high = middle
    yield high.replace(microsecond=0)
