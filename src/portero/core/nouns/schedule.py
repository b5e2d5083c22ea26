"""Named weekly windows, with days off."""

from __future__ import annotations

from datetime import date, time
from enum import StrEnum
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BeforeValidator, ConfigDict, Field, PlainSerializer, StringConstraints

from portero.core.nouns.base import Key, Name, Noun, Timestamp
from portero.core.nouns.device import Zone
from portero.core.nouns.registry import Authored, Declared, shows

DEVICE_ZONE = "device"


class Weekday(StrEnum):
    """Days of the week, Monday first."""

    MON = "mon"
    TUE = "tue"
    WED = "wed"
    THU = "thu"
    FRI = "fri"
    SAT = "sat"
    SUN = "sun"


WEEK = tuple(Weekday)

ClockTime = Annotated[str, StringConstraints(pattern=r"^([01][0-9]|2[0-3]):[0-5][0-9]$")]
"""A time of day, `HH:MM`."""


def _a_date(value: Any) -> Any:
    if isinstance(value, str):
        try:
            return date.fromisoformat(value.strip())
        except ValueError as problem:
            raise ValueError(f"“{value[:40]}” is not a date; write it as in 2027-01-01") from problem
    return value


DayOff = Annotated[date, BeforeValidator(_a_date), PlainSerializer(date.isoformat, return_type=str)]


class Window(Noun):
    """From a time of day to another, on some days. `to` at or before `from` runs into the next day."""

    model_config = ConfigDict(populate_by_name=True, serialize_by_alias=True)
    days: Annotated[tuple[Weekday, ...], Field(min_length=1, max_length=7)]
    from_: Annotated[ClockTime, Field(alias="from")]
    to: ClockTime

    @property
    def opens(self) -> time:
        """When it opens."""
        return time.fromisoformat(self.from_)

    @property
    def closes(self) -> time:
        """When it closes, on the same day or the next."""
        return time.fromisoformat(self.to)

    @property
    def overnight(self) -> bool:
        """Whether it closes on the day after it opened."""
        return self.closes <= self.opens


class Schedule(Authored):
    """Weekly windows on a wall clock: each device's own, or that of a named zone.

    On a day off no window opens; one that opened the day before runs out.
    """

    declared: ClassVar = Declared("schedule", "schedules", about="Weekly windows in which assignments count.")
    key: Key
    name: Name | None = None
    zone: Literal["device"] | Zone = DEVICE_ZONE
    windows: Annotated[tuple[Window, ...], Field(min_length=1, max_length=200)]
    days_off: Annotated[tuple[DayOff, ...], Field(max_length=5000)] = ()


@shows(Schedule)
class ScheduleSummary(Schedule):
    """A schedule as lists show it, with what it does now."""

    name: Name
    sentence: Annotated[str, Field(description="Its windows in words.")]
    open: Annotated[bool, Field(description="Whether a window is open now, on the service's zone for device clocks.")]
    changes_at: Annotated[Timestamp | None, Field(description="When it next opens or closes.")] = None
    now: Annotated[str, Field(description="What it does now, and until when, in words.")]
    assignments: tuple[Key, ...] = ()
    version: Annotated[int, Field(description="The revision that last changed it; also its ETag.")]
