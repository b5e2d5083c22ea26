"""When schedules are open, which programs a set holds, what a service is: the nouns that assignments and rules name."""

from __future__ import annotations

from datetime import datetime, tzinfo

from portero.core.nouns.application_set import ApplicationCondition, ApplicationSet
from portero.core.nouns.schedule import DEVICE_ZONE, WEEK, Schedule, Window
from portero.core.sentences.policy import bounds_words
from portero.core.wording import as_sentence, counted, joined

_DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


def schedule_sentence(schedule: Schedule) -> str:
    """Its windows in words: “Monday to Friday 06:00 to 18:00, on each machine's own clock; closed on 2 days off.”"""
    zone = "on each machine's own clock" if schedule.zone == DEVICE_ZONE else f"on the clock of {schedule.zone}"
    off = f"; no window opens on {counted(len(schedule.days_off), 'day')} off" if schedule.days_off else ""
    return as_sentence(f"{joined([_window(window) for window in schedule.windows])}, {zone}{off}")


def _window(window: Window) -> str:
    end = f"{window.to} the next day" if window.overnight and window.to != "00:00" else window.to
    return f"{_days(window)} {window.from_} to {end.replace('00:00', 'midnight') if window.to == '00:00' else end}"


def _days(window: Window) -> str:
    numbers = sorted(WEEK.index(day) for day in set(window.days))
    if len(numbers) == len(WEEK):
        return "every day"
    if len(numbers) > 2 and numbers == list(range(numbers[0], numbers[-1] + 1)):
        return f"{_DAYS[numbers[0]]} to {_DAYS[numbers[-1]]}"
    return joined([_DAYS[number] for number in numbers])


def schedule_now(is_open: bool, changes_at: datetime | None, zone: tzinfo) -> str:
    """What a schedule does at this minute, and until when: “open until Friday 18:00”."""
    state, then = ("Open", "closes") if is_open else ("Closed", "opens")
    if changes_at is None:
        return f"{state}; it does not change within a year."
    local = changes_at.astimezone(zone)
    return f"{state}; {then} {_DAYS[local.weekday()]} {local:%Y-%m-%d %H:%M}."


def application_set_sentence(application_set: ApplicationSet) -> str:
    """Which programs a set holds, in words."""
    held = joined([_condition(condition) for condition in application_set.include], "or") or "no program"
    less = (
        f", but not {joined([_condition(condition) for condition in application_set.exclude], 'or')}"
        if application_set.exclude
        else ""
    )
    if application_set.following:
        return f"Programs with {held}{less}; takes in what is found later."
    members = application_set.frozen_members or ()
    by_digest = sum(isinstance(member, str) for member in members)
    known = [(by_digest, "SHA-256"), (len(members) - by_digest, "what else is known of them")]
    kept = joined([f"{number:,} by {what}" for number, what in known if number]) or "none"
    number = counted(len(members), "program") if members else "No program"
    return f"{number} with {held}{less}; frozen, {kept}."


def _condition(condition: ApplicationCondition) -> str:
    given = condition.model_dump(exclude_none=True, exclude={"version"})
    words = [f"{name} {value[:12] + '…' if name == 'sha256' else value}" for name, value in given.items()]
    return joined(words + ([bounds_words(condition.version)] if condition.version else []))
