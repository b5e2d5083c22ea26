"""What a generation of a feed changes."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from portero.core.nouns.base import Key, Noun
from portero.core.nouns.preview import Effect, VerdictChange


class Transition(Noun):
    """Hosts of which the feed says something else than before."""

    before: tuple[Key, ...]
    after: tuple[Key, ...]
    hosts: int
    examples: tuple[str, ...]


class FeedComparison(Noun):
    """What putting a generation in force changes, or has changed."""

    feed: Key
    number: int
    against: Annotated[int | None, Field(description="The generation that it is compared with; None for nothing.")]
    added: int
    removed: int
    changed: int
    transitions: Annotated[tuple[Transition, ...], Field(description="The most hosts first; at most 200.")] = ()
    verdicts: Annotated[tuple[VerdictChange, ...], Field(description="The most machines first.")] = ()
    effects: dict[Effect, int] = {}
    looked_at: Annotated[int, Field(description="At how many of the changed hosts verdicts were looked at.")] = 0
    complete: bool = True
