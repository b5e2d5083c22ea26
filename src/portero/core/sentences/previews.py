"""What a change would do, in words."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import UTC, datetime

from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.wording import counted, joined

MOST_NAMED = 5

_SUBJECTS = {
    "search_term": "searches for “{}”",
    "media_type": "{} content",
    "pattern": "{}",
}


def subject_words(kind: str, name: str) -> str:
    """Something that rules decide about, in words: a category's name, a host, a program."""
    if kind == "category":
        return TAXONOMY.categories[name].name
    if kind == "pattern" and name == "*":
        return "every other site"
    return _SUBJECTS.get(kind, "{}").format(name)


def indicators_of(number: int, ruleset: str) -> str:
    """A feed's indicators that the same becomes of: “402 indicators of harbour-watch”."""
    return f"{counted(number, 'indicator')} of {ruleset}"


def from_moment(moment: datetime) -> str:
    """Since when: “from 2026-12-01 08:00 UTC”."""
    return f"from {moment.astimezone(UTC):%Y-%m-%d %H:%M} UTC"


_LOSSES = {"stopped": "loses", "warned": "is warned of"}


def loss(effect: str, words: Sequence[str], number: int, fleet: int, whens: Collection[str | None]) -> str:
    """What everybody loses: “Everybody, on all 240 machines, loses Games, Music and 3 more.”"""
    named = list(words[:MOST_NAMED])
    if number > len(named):
        named.append(f"{number - len(named):,} more")
    only = next(iter(whens)) if len(whens) == 1 else None
    when = f", {only}" if only else ""
    return f"Everybody, on all {counted(fleet, 'machine')}{when}, {_LOSSES[effect]} {joined(named)}."


def taking_hold(devices: int, most: float | None, unheard: int) -> str:
    """When a change will have taken hold: “240 machines fetch it; 9 of 10 hold it in about 11 minutes.”"""
    if not devices:
        return "No machine has anything to fetch."
    parts = [f"{counted(devices, 'machine')} {'fetches' if devices == 1 else 'fetch'} it"]
    if most is not None:
        parts.append(f"9 of 10 hold it within {span_words(most)}")
    if unheard:
        verb = "is not heard of and takes" if unheard == 1 else "are not heard of and take"
        parts.append(f"{unheard:,} {verb} it on coming back")
    return "; ".join(parts) + "."


def span_words(seconds: float) -> str:
    """A span of time as people say it: “about 11 minutes”."""
    if seconds < 90:
        return "a minute or so"
    for size, noun in ((60.0, "minute"), (3600.0, "hour"), (86400.0, "day")):
        number = round(seconds / size)
        if number < {"minute": 90, "hour": 48, "day": 10**9}[noun]:
            return f"about {counted(number, noun)}"
    return ""


def hidden(code: str, devices: int) -> tuple[str, str]:
    """Why part of a visit does not show to the filter on so many machines, and what to do about it."""
    detail, remedy = _HIDDEN[code]
    return f"On {counted(devices, 'machine')} a browser shows the filter only the host over https, {detail}", remedy


_HIDDEN = {
    "path-hidden": (
        "so a rule for a path does not hold.",
        "Name the host instead, or put the URL on a site list, which the browser itself keeps.",
    ),
    "content-hidden": (
        "not what is searched for or what comes back.",
        "Name the host or the category instead.",
    ),
}
