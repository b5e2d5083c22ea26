"""Moments as people write them: a day, a day with a time, “in 3 days”; or RFC 3339."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, time, timedelta, tzinfo
from typing import Annotated

from pydantic import Field

from portero.core.nouns.base import Noun, Timestamp, rfc3339

_APART = re.compile(
    r"(?P<ahead>in +)?(?P<number>\d{1,5}) +(?P<unit>minute|hour|day|week)s?(?(ahead)| +ago)", re.IGNORECASE
)
_AHEAD = {"yesterday": -1, "today": 0, "tomorrow": 1}
WAYS = "a day (2026-12-01), a day with a time (2026-12-01 18:00), “in 3 days”, or 2026-12-01T18:00:00Z"


class MomentRead(Noun):
    """A moment as it was read."""

    moment: Timestamp
    local: Annotated[str, Field(description="On the clock of the zone: “2026-12-01 18:00”.")]
    sentence: Annotated[str, Field(description="In full, with the day of the week and the zone.")]


def read_moment(text: str, zone: tzinfo, now: datetime, *, ends: bool = False) -> datetime:
    """The moment that somebody means, in that zone where they name none. A day by itself is its beginning, or where
    something `ends` with it, its end: midnight after it. ValueError where it is none.
    """
    told = text.strip()
    try:
        apart = _APART.fullmatch(told)
        if apart:
            number = int(apart["number"]) * (1 if apart["ahead"] else -1)
            return _apart(number, apart["unit"].lower(), zone, now)
        day = _day(told, zone, now)
        if day is not None:
            return _midnight(day + timedelta(days=1) if ends else day, zone)
        moment = datetime.fromisoformat(told)
        return (moment if moment.tzinfo else moment.replace(tzinfo=zone)).astimezone(UTC)
    except (ValueError, OverflowError):
        raise ValueError(f"“{text[:40]}” is not a moment; write {WAYS}") from None


def _day(told: str, zone: tzinfo, now: datetime) -> date | None:
    ahead = _AHEAD.get(told.lower())
    if ahead is not None:
        return now.astimezone(zone).date() + timedelta(days=ahead)
    return date.fromisoformat(told) if re.fullmatch(r"\d{4}-\d{2}-\d{2}", told) else None


def _midnight(day: date, zone: tzinfo) -> datetime:
    return datetime.combine(day, time(), zone).astimezone(UTC)


def _apart(number: int, unit: str, zone: tzinfo, now: datetime) -> datetime:
    if unit in ("minute", "hour"):
        return (now + timedelta(**{f"{unit}s": number})).astimezone(UTC)
    # days by the clock on the wall: at the same time of day, also where clocks are changed between
    there = now.astimezone(zone).replace(tzinfo=None) + timedelta(**{f"{unit}s": number})
    return there.replace(tzinfo=zone).astimezone(UTC)


def moment_in_full(moment: datetime, zone: tzinfo, name: str) -> str:
    """A moment said back: “Tuesday 2026-12-01 18:00 in Europe/Berlin, 2026-12-01T17:00:00Z”."""
    there = moment.astimezone(zone)
    full = rfc3339(moment)
    return full if name == "UTC" else f"{there:%A %Y-%m-%d %H:%M} in {name}, {full}"
