"""Indicators in bulk: as lists find them, as files bring them in, and how many of them a machine has to carry."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from portero.core.nouns.base import Key, Noun, Text, Timestamp
from portero.core.nouns.feed import BadLine
from portero.core.nouns.rule import Rule


class FoundIndicator(Noun):
    """One rule of a ruleset of indicators, as a search over all of them finds it."""

    ruleset: Key
    feed: Annotated[Key | None, Field(description="The feed that brings it; None for one written by hand.")] = None
    number: Annotated[int, Field(description="Its place in the ruleset, from 1.")]
    rule: Rule
    selector: str
    address_list: Annotated[Key | None, Field(description="The address list that brings it.")] = None
    assigned: Annotated[bool, Field(description="Whether its ruleset is put on some group or machine.")]
    ended: Annotated[bool, Field(description="Whether it has ended.")]


class RulesEdit(Noun):
    """Some rules of a ruleset put in, or in place of those for the same; and some taken out."""

    put: Annotated[tuple[Rule, ...], Field(max_length=1000)] = ()
    remove: Annotated[
        tuple[Text, ...], Field(max_length=1000, description="Selectors as lists show them: “host x.example exact”.")
    ] = ()


class SetAside(Noun):
    """Something that came with indicators and cannot be expressed here."""

    name: str
    problem: str
    at: Timestamp
    document: Annotated[dict[str, Any], Field(description="The object as it came.")]


class Overlapping(Noun):
    """An indicator that is within another one, or the other way round."""

    line: int
    selector: str
    other: Annotated[str, Field(description="The one that it meets: “host x.example”.")]
    ruleset: Key
    feed: Key | None = None
    action: str


class Hit(Noun):
    """A host in recent activity that an indicator would meet."""

    host: str
    selector: str
    action: str
    devices: int
    visits: int
    last: Timestamp


class ImportReport(Noun):
    """What a file of rules comes to, before it is put in or after."""

    ruleset: Key
    rules: Annotated[int, Field(description="How many rules the file has.")]
    new: int
    changed: int
    unchanged: Annotated[int, Field(description="There already, just so.")] = 0
    duplicates: Annotated[int, Field(description="Named before in the same file.")] = 0
    ended: Annotated[int, Field(description="Over already; they are put in as they are.")] = 0
    removed: Annotated[int, Field(description="Not in the file, and taken out where it is to be replaced.")] = 0
    overlapping: int = 0
    overlaps: Annotated[tuple[Overlapping, ...], Field(description="The first hundred.")] = ()
    refused: int = 0
    refused_lines: Annotated[tuple[BadLine, ...], Field(description="The first hundred.")] = ()
    aside: Annotated[tuple[SetAside, ...], Field(description="What cannot be expressed; the first hundred.")] = ()
    set_aside: int = 0
    files_ruleset: Annotated[Key | None, Field(description="Where hashes of files went.")] = None
    files: Annotated[int, Field(description="How many hashes of files there are.")] = 0
    hits: Annotated[tuple[Hit, ...], Field(description="The most machines first; the first hundred.")] = ()
    hit_hosts: int = 0
    hit_devices: int = 0
    hit_visits: int = 0
    most: Annotated[int, Field(description="What the machines that carry most would carry then.")] = 0
    capacity: int = 0
    kept: Annotated[bool, Field(description="Whether it was put in.")] = False


class CapacityUse(Noun):
    """What machines carry, of what they may."""

    capacity: int
    most: Annotated[int, Field(description="On the machines that carry most.")]
    by_hand: int
    by_feed: int
    groups: tuple[Key, ...]
    devices: Annotated[int, Field(description="How many machines carry as many.")]
    ending: Annotated[int, Field(description="How many of them end within 30 days by themselves.")]
    a_day: Annotated[float | None, Field(description="How many more there are each day, of late; None if not known.")]
    full_in_days: Annotated[float | None, Field(description="When it is full at that rate; None where it never is.")]
    sentence: str


CleanUpReason = Literal["ended", "duplicate", "overshadowed"]


class CleanUpItem(Noun):
    """A rule that can go without any verdict becoming another one."""

    ruleset: Key
    number: int
    selector: str
    action: str
    reason: CleanUpReason
    by: Annotated[str | None, Field(description="The rule that says the same: “host x.example in fraud-hosts”.")] = None


class CleanUp(Noun):
    """What can be cleaned up; feed-made rules are counted, and left to their feeds."""

    items: tuple[CleanUpItem, ...]
    ended: int = 0
    duplicate: int = 0
    overshadowed: int = 0
    from_feeds: Annotated[int, Field(description="Such rules that feeds bring, which only they can take out.")] = 0
