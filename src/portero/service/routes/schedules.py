"""Schedules, and the days off of calendars."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, StringConstraints

from portero.core import sentences, wording
from portero.core.matching.windows import Windows
from portero.core.nouns.estate import NOUNS, Estate
from portero.core.nouns.schedule import DayOff, Schedule, ScheduleSummary
from portero.formats.calendars import MAX_CALENDAR, BadCalendar, read_days_off
from portero.service.auditing import asks, audited_router
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.common import Signed, TheKeepers
from portero.service.routes.nouns import NounRoutes, Tell
from portero.service.routes.uses import assignments_with
from portero.service.state import Snapshot
from portero.store.moments import moment

router = audited_router("schedules")


def _told(schedule: Schedule, version: int | None, estate: Estate, at: float) -> ScheduleSummary:
    windows, now = Windows.of(schedule), moment(at)
    is_open, changes_at = windows.is_open(now), windows.next_change(now)
    return ScheduleSummary(
        **{**dict(schedule), "name": schedule.name or schedule.key},
        sentence=sentences.schedule_sentence(schedule),
        open=is_open,
        changes_at=changes_at,
        now=sentences.schedule_now(is_open, changes_at, windows.zone(None)),
        assignments=tuple(_users(estate, schedule.key)),
        version=version or 0,
    )


def _telling(keepers: Keepers, snapshot: Snapshot) -> Tell:
    return lambda schedule, version: _told(schedule, version, snapshot.estate, keepers.now())


_users = assignments_with("schedule")
ROUTES = NounRoutes(NOUNS["schedule"], telling=_telling, users=_users)


@router.post("/sentences/schedule", summary="A schedule now", operation_id="describeSchedule")
@asks
def describe_schedule(body: Schedule, _who: Signed, keepers: TheKeepers) -> ScheduleSummary:
    """What a schedule, saved or not, does at this minute, and when that next changes. Nothing is kept."""
    return _told(body, None, keepers.estate.snapshot.estate, keepers.now())


class CalendarFile(BaseModel):
    """An iCalendar file's text."""

    calendar: Annotated[str, StringConstraints(min_length=1, max_length=MAX_CALENDAR)]


@router.post("/days-off", summary="Days off of a calendar", operation_id="readDaysOff")
@asks
def days_off(body: CalendarFile, _who: Signed, keepers: TheKeepers) -> list[DayOff]:
    """The dates of an iCalendar file's events (RFC 5545), of this year and the two that follow. Nothing is kept."""
    try:
        return read_days_off(body.calendar.encode(), moment(keepers.now()).date())
    except BadCalendar as problem:
        raise Refusal("invalid", wording.as_sentence(str(problem))) from problem
