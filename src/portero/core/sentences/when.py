"""Schedules, application sets and address lists in words: what assignments and rules name."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, tzinfo

from portero.core.nouns.address_list import AddressList
from portero.core.nouns.application_set import ApplicationCondition, ApplicationSet
from portero.core.nouns.schedule import DEVICE_ZONE, WEEK, Schedule, Window
from portero.core.sentences.policy import MOST_NAMED, bounds_words
from portero.core.wording import as_sentence, counted, joined

_DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_MOST_CONDITIONS = 20


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
    words = [*_conditions(application_set.include), *(f"what {key} holds" for key in application_set.sets)]
    held = joined(words, "or") or "no program"
    less = f", but not {joined(_conditions(application_set.exclude), 'or')}" if application_set.exclude else ""
    if application_set.following:
        put = [f"what is put into {one.folder} on {one.device}" for one in application_set.watches]
        return f"Programs with {held}{less}; takes in {joined(['what is found later', *put])}."
    members = application_set.frozen_members or ()
    by_digest = sum(isinstance(member, str) for member in members)
    known = [(by_digest, "SHA-256"), (len(members) - by_digest, "what else is known of them")]
    kept = joined([f"{number:,} by {what}" for number, what in known if number]) or "none"
    number = counted(len(members), "program") if members else "No program"
    return f"{number} with {held}{less}; frozen, {kept}."


def catch(programs: Sequence[tuple[str, int]], devices: int, people: int) -> str:
    """What a set holds now: “It holds Chart Table on 115 machines and Hawser on 7: 2 programs on 120 machines, started
    by 41 people in the last 14 days.”
    """
    if not programs:
        return "It holds no program that a machine has now."
    told = _first([f"{name} on {counted(number, 'machine')}" for name, number in programs])
    every = f": {counted(len(programs), 'program')} on {counted(devices, 'machine')}" if len(programs) > 1 else ""
    ran = f", started by {counted(people, 'person', 'people')} in the last 14 days" if people else ""
    return f"It holds {told}{every}{ran}."


def came_by_itself(programs: Sequence[tuple[str, Sequence[str], int]], since: datetime) -> str:
    """What a set took in after it was written: as in “… it took in by itself: Hawser 2.0 on 7 machines.”"""
    told = _first(
        [
            f"{' '.join(filter(None, (name, joined(versions))))} on {counted(number, 'machine')}"
            for name, versions, number in programs
        ]
    )
    return f"Since it was last written ({since:%Y-%m-%d}) it took in by itself: {told}."


def _first(words: Sequence[str]) -> str:
    more = len(words) - MOST_NAMED
    return joined([*words[:MOST_NAMED], f"{more:,} more"] if more > 0 else words)


def address_list_sentence(address_list: AddressList) -> str:
    """How many addresses it has, the first few by name."""
    addresses = address_list.addresses
    if not addresses:
        return "It has no addresses yet."
    return as_sentence(_first(addresses))


def _conditions(conditions: Sequence[ApplicationCondition]) -> list[str]:
    """Each in words; many files by their number, and many others behind the first by theirs."""
    told = [one for one in conditions if one.model_dump(exclude_none=True).keys() != {"sha256"}]
    files = len(conditions) - len(told)
    if not (several := files > MOST_NAMED):
        told = [*conditions]
    words = [_condition(one) for one in told[:_MOST_CONDITIONS]]
    if more := len(told) - len(words):
        words.append(f"one of {counted(more, 'more condition')}")
    return [*words, f"one of {files:,} SHA-256 digests"] if several else words


def _condition(condition: ApplicationCondition) -> str:
    given = condition.model_dump(exclude_none=True, exclude={"version"})
    words = [f"{name} {value[:12] + '…' if name == 'sha256' else value}" for name, value in given.items()]
    return joined(words + ([bounds_words(condition.version)] if condition.version else []))
