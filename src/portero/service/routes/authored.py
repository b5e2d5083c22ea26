"""What rules and assignments refer to: schedules, application sets, services, notices; and the directory."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, StringConstraints

from portero.core import sentences
from portero.core.matching.windows import Windows
from portero.core.nouns.application_set import ApplicationSet, ApplicationSetSummary
from portero.core.nouns.directory import Directory, DirectoryState
from portero.core.nouns.estate import Estate
from portero.core.nouns.notice import Notice, NoticeSummary
from portero.core.nouns.ruleset import Sentence
from portero.core.nouns.schedule import DayOff, Schedule, ScheduleSummary
from portero.core.nouns.service import Service, ServiceSummary
from portero.formats.calendars import MAX_CALENDAR, BadCalendar, read_days_off
from portero.service.desk import Desk
from portero.service.problems import Problem
from portero.service.routes.common import Keeper, Signed, TheDesk
from portero.service.routes.keeping import Kept, install
from portero.store import directories
from portero.store.estates import moment

router = APIRouter()


def _assignments_with(attribute: str, estate: Estate, key: str) -> list[str]:
    return [one.key for one in estate.assignments if getattr(one, attribute) == key]


def _rulesets_naming(attribute: str, estate: Estate, key: str) -> list[str]:
    return [one.key for one in estate.rulesets if any(getattr(rule, attribute) == key for rule in one.rules)]


# --- schedules ---


def _schedule(one: Schedule, desk: Desk, version: int) -> ScheduleSummary:
    windows, now = Windows.of(one), moment(desk.now())
    is_open, changes_at = windows.is_open(now), windows.next_change(now)
    return ScheduleSummary(
        **{**dict(one), "name": one.name or one.key},
        sentence=sentences.schedule_sentence(one),
        open=is_open,
        changes_at=changes_at,
        now=sentences.schedule_now(is_open, changes_at, windows.zone(None)),
        assignments=tuple(_assignments_with("schedule", desk.snapshot.estate, one.key)),
        version=version,
    )


install(
    router,
    Kept(
        noun="schedule",
        attribute="schedules",
        model=Schedule,
        summary=ScheduleSummary,
        summed_up=_schedule,
        users=lambda estate, key: _assignments_with("schedule", estate, key),
        about="Each says what it does at this minute; one on each machine's own clock is shown on UTC.",
    ),
)


@router.post("/sentences/schedule", summary="A schedule now", operation_id="describeSchedule", tags=["schedules"])
def describe_schedule(body: Schedule, _who: Signed, desk: TheDesk) -> ScheduleSummary:
    """What a schedule, saved or not, does at this minute, and when that next changes. Nothing is kept."""
    return _schedule(body, desk, 0)


class CalendarFile(BaseModel):
    """An iCalendar file's text."""

    calendar: Annotated[str, StringConstraints(min_length=1, max_length=MAX_CALENDAR)]


@router.post("/days-off", summary="Days off of a calendar", operation_id="readDaysOff", tags=["schedules"])
def days_off(body: CalendarFile, _who: Signed, desk: TheDesk) -> list[DayOff]:
    """The dates of an iCalendar file's events (RFC 5545), of this year and the two that follow. Nothing is kept."""
    try:
        return read_days_off(body.calendar.encode(), moment(desk.now()).date())
    except BadCalendar as problem:
        raise Problem("invalid", sentences.as_sentence(str(problem))) from problem


# --- application sets ---


def _set(one: ApplicationSet, desk: Desk, version: int) -> ApplicationSetSummary:
    return ApplicationSetSummary(
        **{**dict(one), "name": one.name or one.key},
        sentence=sentences.application_set_sentence(one),
        rulesets=tuple(_rulesets_naming("application_set", desk.snapshot.estate, one.key)),
        version=version,
    )


install(
    router,
    Kept(
        noun="application set",
        attribute="application_sets",
        model=ApplicationSet,
        summary=ApplicationSetSummary,
        summed_up=_set,
        users=lambda estate, key: _rulesets_naming("application_set", estate, key),
        about="One that is frozen without naming its members holds the programs that machines have when it is saved.",
        prepared=lambda desk, body: desk.frozen(body),
    ),
)


@router.post(
    "/sentences/application-set",
    summary="An application set in words",
    operation_id="describeApplicationSet",
    tags=["application sets"],
)
def describe_application_set(body: ApplicationSet, _who: Signed, desk: TheDesk) -> Sentence:
    """Which programs a set, saved or not, holds, in words. Nothing is kept."""
    return Sentence(sentence=sentences.application_set_sentence(desk.frozen(body)))


# --- services and notices ---


install(
    router,
    Kept(
        noun="service",
        attribute="services",
        model=Service,
        summary=ServiceSummary,
        summed_up=lambda one, _desk, version: ServiceSummary(
            **{**dict(one), "name": one.name or one.key}, version=version
        ),
        users=lambda estate, key: _rulesets_naming("service", estate, key),
        about="A host belongs to one service.",
    ),
)


install(
    router,
    Kept(
        noun="notice",
        attribute="notices",
        model=Notice,
        summary=NoticeSummary,
        summed_up=lambda one, _desk, version: NoticeSummary(**dict(one), version=version),
        users=lambda estate, key: _assignments_with("notice", estate, key),
        about="“standard” is always there.",
    ),
)


# --- the directory ---


@router.get("/directory", summary="People and their user groups", operation_id="getDirectory", tags=["directory"])
def get_directory(_who: Signed, desk: TheDesk) -> DirectoryState:
    """The newest generation of the directory."""
    with desk.store.reading() as connection:
        found = directories.newest(connection)
    if found is None:
        raise Problem("not-found", "No directory has been brought in yet; bring one in with “portero directory put”.")
    return found


@router.put("/directory", summary="Bring the directory in", operation_id="putDirectory", tags=["directory"])
def put_directory(body: Directory, who: Keeper, desk: TheDesk) -> DirectoryState:
    """Take a new generation of people and user groups into use, whole, in place of the one before."""
    desk.put_directory(body, who.name)
    return get_directory(who, desk)
