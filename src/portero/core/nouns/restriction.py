"""Restrictions: what some machines may not do for a while, put on with one call and lifted with one."""

from __future__ import annotations

from typing import Annotated, Self

from pydantic import Field, StringConstraints, model_validator

from portero.core.nouns.assignment import AssignmentKey
from portero.core.nouns.base import Key, Noun, Text, Timestamp
from portero.core.nouns.push import Push
from portero.core.nouns.quick_rule import Word
from portero.core.nouns.ruleset import Ruleset

PREFIX = "room-"
"""What the keys of rulesets of restrictions begin with."""
RestrictionKey = Annotated[Key, StringConstraints(max_length=40)]


class NewRestriction(Noun):
    """What some machines may not do, until when. What was kept under its key before is used again where it says
    nothing of its own.
    """

    key: Annotated[RestrictionKey, Field(description="Under which it is kept, and used again.")]
    what: Annotated[
        tuple[Word, ...],
        Field(max_length=100, description="What is blocked, as in quick rules: hosts, categories, programs, …"),
    ] = ()
    no_web: Annotated[bool, Field(description="No web at all: every category, and every site in browsers.")] = False
    on: Annotated[tuple[Text, ...], Field(min_length=1, max_length=200, description="Groups and machines.")]
    people: Annotated[
        tuple[Text, ...], Field(max_length=100, description="Only for these people and user groups.")
    ] = ()
    signed_in: Annotated[
        bool, Field(description="Only for the people who are signed in on these machines now, on any of them.")
    ] = False
    until: Annotated[Timestamp | None, Field(description="When it is over.")] = None
    until_restart: Annotated[
        bool, Field(description="Over on each machine as it restarts; and half a day from now at the latest.")
    ] = False

    @model_validator(mode="after")
    def _ends(self) -> Self:
        if self.until is None and not self.until_restart:
            raise ValueError("a restriction ends: say until when, or until the machines restart")
        if self.signed_in and self.people:
            raise ValueError("it is for some people, or for those who are signed in now: say one of the two")
        return self


class BrowserNotReached(Noun):
    """A browser that neither the filter nor a site list reaches on some of the machines that are meant."""

    name: str
    machines: Annotated[int, Field(description="How many of the machines have it and do not reach it.")]
    starting: Annotated[
        int, Field(description="On how many of these it starts all the same: their startup layer does not enforce.")
    ]
    sentence: str


class RestrictionInForce(Noun):
    """A restriction that is put on some machines now."""

    key: RestrictionKey
    on: tuple[str, ...]
    what: Annotated[tuple[str, ...], Field(description="What it blocks, as lists show rules.")]
    no_web: bool
    browsers: Annotated[
        tuple[str, ...], Field(description="Browsers that no web rule reaches, kept from starting beside it.")
    ] = ()
    people: tuple[str, ...] = ()
    by: str
    reason: str
    until: Timestamp
    until_restart: bool = False
    assignments: tuple[AssignmentKey, ...]


class Restrictions(Noun):
    """The restrictions that are put on now, and the keys of those that can be put on again."""

    in_force: tuple[RestrictionInForce, ...]
    kept: Annotated[tuple[RestrictionKey, ...], Field(description="All that were ever made, by key.")]


class RestrictionDone(Noun):
    """What became of putting one on, or lifting it; the push tells how far each machine is."""

    in_force: Annotated[tuple[RestrictionInForce, ...], Field(description="What of it is put on now.")]
    not_for_people: Annotated[
        bool, Field(description="Its site patterns are left out, as browsers have them for everybody or for nobody.")
    ] = False
    not_reached: Annotated[
        tuple[BrowserNotReached, ...],
        Field(description="With no web at all: the browsers that it does not reach. They are kept from starting."),
    ] = ()
    revision: int
    push: Annotated[Push | None, Field(description="None where no machine can be told.")] = None


def restriction_of(ruleset: Ruleset) -> str | None:
    """The key of the restriction that a ruleset belongs to; None where it is an ordinary one."""
    stem, _, kind = ruleset.key.removeprefix(PREFIX).rpartition("-")
    return stem if stem and ruleset.key.startswith(PREFIX) and kind == ruleset.kind else None
