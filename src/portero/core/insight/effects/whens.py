"""When something is so, in words: along each line on which it hangs."""

from __future__ import annotations

from collections.abc import Iterator

from portero.core import sentences, wording
from portero.core.insight.effects.occasions import Lines, Occasions

MOST_NAMED = 6
"""How many people are named one by one."""


def when(on: int, occasions: Occasions) -> str | None:
    """On which of the occasions; None on all of them."""
    if on == occasions.ever:
        return None
    own, every = occasions.lines(on), occasions.all_lines
    parts = [*_by_person(own, every), *_by_place(own, every), *_by_schedule(own, every)]
    if own.restarted != every.restarted:
        parts.append("after a restart" if own.restarted == {True} else "until the machine restarts")
    since = [moment.since for moment in own.moments]
    if None not in since:
        parts.append(sentences.from_moment(min(moment for moment in since if moment is not None)))
    elif {moment.since for moment in every.moments} != set(since):
        parts.append("for now")
    return ", ".join(parts) or "in some circumstances"


def _by_person(own: Lines, every: Lines) -> Iterator[str]:
    if own.people != every.people:
        named = sorted(person.words for person in own.people if person.words)
        others = sorted(person.words for person in every.people - own.people if person.words)
        all_but = any(person.words is None for person in own.people)
        yield f"but for {_named(others)}" if all_but else f"for {_named(named)}"


def _named(people: list[str]) -> str:
    more = len(people) - MOST_NAMED
    return wording.joined([*people[:MOST_NAMED], f"{more:,} more"] if more > 1 else people)


def _by_place(own: Lines, every: Lines) -> Iterator[str]:
    if own.places != every.places:
        yield min(own.places)


def _by_schedule(own: Lines, every: Lines) -> Iterator[str]:
    for key in sorted({key for moment in every.moments for key in moment.opened}):
        opened = {key in moment.opened for moment in own.moments}
        if opened != {key in moment.opened for moment in every.moments}:
            yield f"during {key}" if opened == {True} else f"outside {key}"
