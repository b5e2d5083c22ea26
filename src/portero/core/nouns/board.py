"""Groups by precedence down, rulesets across; and where groups overlap, what each contributes and what wins."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from portero.core.nouns.action import Action
from portero.core.nouns.assignment import State
from portero.core.nouns.base import Key, Name, Noun, Timestamp
from portero.core.nouns.rule import RulesetKind


class BoardRow(Noun):
    """A group, or a single machine that some assignment names, as a row."""

    target: str
    name: Name
    device: Annotated[bool, Field(description="Whether it is a single machine.")] = False
    built_in: bool = False
    precedence: Annotated[int | None, Field(description="1 is the strongest; None for a machine, which outranks all.")]
    devices: int


class BoardColumn(Noun):
    """A ruleset as a column."""

    ruleset: Key
    name: Name
    kind: RulesetKind
    rules: int
    feed: Key | None = None


class ObservedCell(Noun):
    """On how many machines of its target what an assignment says was seen to hold when they last tried it."""

    machines: Annotated[int, Field(description="On how many it was tried.")]
    held: Annotated[int, Field(description="On how many it held.")]
    at: Annotated[Timestamp, Field(description="When it was tried last.")]
    run: Annotated[int, Field(description="The newest run that tried it.")]
    sentence: Annotated[str, Field(description="“Held on 14 of 16”, in words.")]


class BoardCell(Noun):
    """One assignment where its ruleset and one of its targets meet."""

    target: str
    ruleset: Key
    assignment: str
    action: Annotated[Action | None, Field(description="What all of its rules come to; None where they differ.")] = None
    state: State
    ended: Annotated[bool, Field(description="Whether it has ended.")] = False
    mandatory: bool = False
    schedule: Key | None = None
    people: Annotated[bool, Field(description="Whether it is for some people only.")] = False
    place: str = "anywhere"
    until_restart: bool = False
    exception: Annotated[bool, Field(description="Whether somebody answers for it, for a while.")] = False
    observed: Annotated[ObservedCell | None, Field(description="What machines saw of it; None where none tried.")] = (
        None
    )


class Board(Noun):
    """What is assigned, seen at once: a page of the rows, with what is in them."""

    revision: int
    rows: tuple[BoardRow, ...]
    next: Annotated[str | None, Field(description="The cursor of the next rows; None at the end.")] = None
    total: Annotated[int, Field(description="How many rows there are.")]
    groups: Annotated[int, Field(description="How many groups there are, without those that are built in.")]
    columns: tuple[BoardColumn, ...]
    cells: tuple[BoardCell, ...]
    in_force: Annotated[int, Field(description="How many assignments are in force now.")]


class Contribution(Noun):
    """What one group, or the machine itself, says of something."""

    target: str
    action: Action
    ruleset: Key
    assignment: str
    mandatory: bool = False
    conditions: Annotated[str, Field(description="When and for whom, in words; empty where always.")] = ""


class OverlapOutcome(Noun):
    """What comes of it, on how many machines and in which circumstances; with an attempt that shows it."""

    verdict: Action
    devices: int
    when: Annotated[str | None, Field(description="In which circumstances; None where in all.")] = None
    by: Annotated[str | None, Field(description="The ruleset and target that win.")] = None
    device: str
    at: Timestamp
    user: str | None = None
    place: str


class OverlapRow(Noun):
    """One thing that is visited or started: what each says of it, and what wins."""

    subject: str
    words: str
    alike: Annotated[int, Field(description="How many others of the same kind fare alike.")] = 0
    alike_examples: Annotated[tuple[str, ...], Field(description="Some of them, by name.")] = ()
    url: str | None = None
    contributions: tuple[Contribution, ...]
    outcomes: Annotated[tuple[OverlapOutcome, ...], Field(description="The most machines first.")]
    differ: Annotated[bool, Field(description="Whether they say different things of it.")]


class Overlap(Noun):
    """What some groups have in common, or what governs one machine: row by row what each contributes and what wins."""

    targets: tuple[str, ...]
    devices: Annotated[int, Field(description="How many machines are in all of them.")]
    examples: tuple[str, ...]
    rows: tuple[OverlapRow, ...]


class SharedBy(Noun):
    """Two groups, and how many machines are in both."""

    groups: Annotated[tuple[Key, Key], Field(description="The stronger one first.")]
    devices: int


class GroupOverlaps(Noun):
    """How groups overlap: how many machines each holds, and how many every two share."""

    groups: tuple[BoardRow, ...]
    shared: Annotated[tuple[SharedBy, ...], Field(description="Pairs that share some machine.")]
