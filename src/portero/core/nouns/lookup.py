"""All that is known of a host: its categories and who says so, where it was seen, which rules touch it."""

from __future__ import annotations

from datetime import date
from typing import Annotated

from pydantic import Field

from portero.core.nouns.action import Action
from portero.core.nouns.base import Key, Noun, Timestamp
from portero.core.nouns.correction import CorrectionSummary
from portero.core.nouns.rule import RulesetKind
from portero.core.nouns.service import Decision


class FeedSays(Noun):
    """What one feed says of a host."""

    feed: Key
    name: str
    entry: Annotated[str, Field(description="The host that it says it of: this one, or one above it.")]
    categories: tuple[Key, ...]
    since: Annotated[date, Field(description="Since when it has said so, by the generations that were read.")]
    registered_on: Annotated[date | None, Field(description="When the name was registered, where it tells.")] = None
    counts: Annotated[bool, Field(description="Whether it counts: a nearer entry, or a correction, goes before it.")]


class ServiceNamed(Noun):
    """The service that a host belongs to."""

    key: Key
    name: str
    decision: Decision
    suitability: int | None = None


class TouchingAssignment(Noun):
    """Where a rule that touches a host is put."""

    assignment: Key
    targets: tuple[str, ...]
    action: Annotated[Action, Field(description="What the rule does by way of it.")]
    mandatory: bool = False
    sentence: str


class TouchingRule(Noun):
    """A rule in force that matches a host, or a part of it."""

    ruleset: Key
    kind: RulesetKind
    feed: Annotated[Key | None, Field(description="The feed that brings it; None for one written by hand.")] = None
    number: Annotated[int, Field(description="Its place in the ruleset, from 1.")]
    selector: str
    address_list: Annotated[Key | None, Field(description="The address list that brings it.")] = None
    action: Action
    part: Annotated[bool, Field(description="It names some pages of the host only.")] = False
    ended: Annotated[bool, Field(description="It has ended.")] = False
    assignments: tuple[TouchingAssignment, ...]


class TestHost(Noun):
    """The reserved host of a category, to try a block of it with."""

    category: Key
    host: str


class HostLookup(Noun):
    """What is known of a host or a URL."""

    host: str
    url: Annotated[str | None, Field(description="The URL that was asked for, where it was more than a host.")] = None
    categories: tuple[Key, ...]
    entry: Annotated[str | None, Field(description="The host whose entry counts; None for an unknown host.")] = None
    source: Annotated[str, Field(description="correction, index, test host or none")]
    feeds: Annotated[tuple[FeedSays, ...], Field(description="The nearest entry of each feed.")] = ()
    correction: CorrectionSummary | None = None
    service: ServiceNamed | None = None
    newly_registered_days: Annotated[int, Field(description="For how long a name counts as newly registered.")]
    test_hosts: tuple[TestHost, ...] = ()
    first_seen: Timestamp | None = None
    last_seen: Timestamp | None = None
    devices: Annotated[int, Field(description="On how many machines it was seen.")] = 0
    visits: int = 0
    rules: Annotated[tuple[TouchingRule, ...], Field(description="Rules in force that touch it.")] = ()
