"""What feeds bring and what machines carry, in words."""

from __future__ import annotations

from portero.core.nouns.directory import WaitingDirectory
from portero.core.nouns.feed import Feed
from portero.core.wording import counted


def feed_sentence(feed: Feed, entries: int | None) -> str:
    """What a feed brings, from where, how often: “Categories of 4,210 hosts, from feeds.example every 6 hours.”"""
    if feed.kind == "categories":
        what = f"Categories of {counted(entries, 'host')}" if entries is not None else "Categories of hosts"
    elif feed.kind == "programs":
        what = counted(entries, "version") + " of programs" if entries is not None else "Programs"
    else:
        what = counted(entries, "indicator") if entries is not None else "Indicators"
        what += f", {feed.action} where it does not say"
    where = f", from {feed.address}" if feed.address else ", from files that are sent"
    often = f" {every(feed.every_minutes)}" if feed.every_minutes else (" when asked" if feed.address else "")
    return f"{what}{where}{often}."


def feed_waits(name: str, number: int) -> str:
    """That a generation waits to be looked at."""
    return f"Generation {number} of the feed {name} waits to be looked at."


def feed_failed(name: str, problem: str) -> str:
    """That a feed cannot be read, and why."""
    return f"The feed {name} could not be read, and what it brought before stays in force: {problem}"


def every(minutes: int) -> str:
    """How often: “every 6 hours”."""
    for size, word in ((1440, "day"), (60, "hour"), (1, "minute")):
        if minutes % size == 0:
            number = minutes // size
            return f"every {word}" if number == 1 else f"every {number:,} {word}s"
    raise AssertionError(minutes)


FAR = 3_650
"""So many days ahead nobody looks."""


def capacity(most: int, may: int, a_day: float | None, full_in: float | None) -> str:
    """How full it is and how that goes on."""
    told = f"Up to {most:,} of {counted(may, 'indicator')} on a machine ({most / may:.0%})"
    if full_in is not None and full_in <= 0:
        return f"{told}: it is full."
    if a_day is None:
        return f"{told}; how fast it fills is known after a day."
    pace = f"{abs(a_day):,.0f}" if abs(a_day) >= 1 else "less than one"
    if full_in is None:
        return f"{told}, and no more from day to day." if a_day == 0 else f"{told}, {pace} fewer each day."
    days = f"{counted(round(full_in), 'day')}" if full_in <= FAR else "more than ten years"
    return f"{told}, {pace} more each day: full in {days} at that rate."


def directory_waits(waiting: WaitingDirectory) -> str:
    """“Generation 8 of the directory has lost 40 of its people and waits to be looked at.”"""
    return (
        f"Generation {waiting.generation} of the directory, brought in by {waiting.by}, has lost"
        f" {counted(waiting.lost, 'person', 'people')} and waits to be looked at."
    )
