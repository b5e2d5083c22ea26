"""Feeds: sources from outside that are read again on a schedule, and the generations that they bring."""

from __future__ import annotations

import hashlib
import json
from typing import Annotated, ClassVar, Literal, Self

from pydantic import AfterValidator, Field, StringConstraints, model_validator

from portero.core.nouns.base import Key, Name, Noun, Text, Timestamp, unknown_word
from portero.core.nouns.registry import Authored, Declared, shows
from portero.core.nouns.urls import parse_visit
from portero.core.nouns.web_taxonomy import TAXONOMY

FeedKind = Literal["categories", "indicators", "programs"]
FeedFormat = Literal["host-list", "hosts-file", "csv", "stix", "taxii"]
FORMATS: dict[FeedKind, tuple[FeedFormat, ...]] = {
    "categories": ("host-list", "hosts-file", "csv"),
    "indicators": ("host-list", "hosts-file", "csv", "stix", "taxii"),
    "programs": ("csv",),
}
"""What each kind of feed may be written in."""
_READING = {"kind", "format", "address", "categories", "mapping", "action", "lifetime_days"}
WITHOUT_WORDS = ("host-list", "hosts-file")
"""Formats that name hosts alone."""


def _fetchable(value: str) -> str:
    if not value.lower().startswith(("http://", "https://")):
        raise ValueError(f"“{value[:80]}” is not an HTTP(S) address; write it like https://feeds.example/hosts.csv")
    parse_visit(value)
    if "@" in value.split("/")[2]:
        raise ValueError("an address carries no name and password; give them as the feed's credential")
    return value


def _known_categories(value: tuple[str, ...]) -> tuple[str, ...]:
    for key in value:
        if key not in TAXONOMY.categories:
            raise ValueError(unknown_word("category", key, TAXONOMY.categories))
    return tuple(sorted(set(value)))


Address = Annotated[str, StringConstraints(min_length=8, max_length=2000), AfterValidator(_fetchable)]
Categories = Annotated[tuple[Key, ...], Field(max_length=45), AfterValidator(_known_categories)]
Word = Annotated[str, StringConstraints(min_length=1, max_length=100, to_lower=True)]


class Feed(Authored):
    """A source of categories, of indicators, or of programs.

    What it brings is not in the estate document: it has generations of its own.
    """

    declared: ClassVar = Declared("feed", "feeds", right="keeper", about="Sources that are read again on a schedule.")
    key: Key
    name: Name | None = None
    kind: FeedKind
    format: FeedFormat
    address: Annotated[
        Address | None, Field(description="Where it is fetched from; for TAXII the collection's own address.")
    ] = None
    every_minutes: Annotated[int | None, Field(ge=5, le=43_200, description="How often; None only when asked.")] = None
    source: Annotated[Text | None, Field(description="Who publishes it.")] = None
    licence: Annotated[Text | None, Field(description="On which terms it may be used.")] = None
    categories: Annotated[Categories, Field(description="Of every host, where the file names hosts alone.")] = ()
    mapping: Annotated[
        dict[Word, Categories],
        Field(max_length=2000, description="Its words → our categories; none to pass a word over."),
    ] = {}
    action: Annotated[
        Literal["warn", "block", "log"] | None, Field(description="Of indicators that come without one.")
    ] = None
    lifetime_days: Annotated[
        int | None,
        Field(
            ge=1, le=3650, description="An indicator ends so long after it began or, where it does not say, first came."
        ),
    ] = None
    review: Annotated[bool, Field(description="A new generation waits until somebody has looked at it.")] = False
    private_network: Annotated[bool, Field(description="It may be fetched from a private address.")] = False

    @model_validator(mode="after")
    def _fits(self) -> Self:
        if self.format not in FORMATS[self.kind]:
            raise ValueError(
                f"{self.kind} are not read from {self.format}; take one of {', '.join(FORMATS[self.kind])}"
            )
        if self.every_minutes is not None and self.address is None:
            raise ValueError("a feed that is read on a schedule needs an address")
        if self.format == "taxii" and self.address is None:
            raise ValueError("a TAXII collection needs its address")
        if self.kind == "programs" and (self.categories or self.mapping):
            raise ValueError("“categories” and “mapping” go with feeds of categories; programs are for what they say")
        if self.kind == "categories" and self.format in WITHOUT_WORDS and not self.categories:
            raise ValueError(f"a {self.format} names hosts alone: say in “categories” which ones they are in")
        if self.kind != "indicators":
            if self.action is not None or self.lifetime_days is not None:
                raise ValueError("“action” and “lifetime_days” go with indicators")
        elif self.action is None:
            raise ValueError("indicators from outside need a default “action”: warn, block or log")
        return self

    @property
    def fingerprint(self) -> str:
        """Of all that decides what a source comes to: where it differs, the same source comes to something else."""
        told = self.model_dump(mode="json", include=_READING)
        return hashlib.sha256(json.dumps(told, sort_keys=True).encode()).hexdigest()[:16]


class BadLine(Noun):
    """A line, or an object, that could not be used."""

    line: Annotated[int, Field(description="Its number, from 1.")]
    problem: str


class FeedProgress(Noun):
    """How far reading a feed has come."""

    stage: Annotated[str, Field(description="fetching, sorting, comparing or publishing")]
    lines: int = 0
    bytes: int = 0
    total_bytes: int | None = None


class Generation(Noun):
    """One state of a feed as it was brought in."""

    feed: Key
    number: int
    at: Timestamp
    by: Annotated[str, Field(description="Who brought it in: a person, or the schedule.")]
    source: Annotated[str, Field(description="The address or the file's name.")]
    digest: str
    entries: Annotated[int, Field(description="Hosts, indicators, or versions of programs.")]
    lines: int = 0
    duplicates: int = 0
    ended: Annotated[int, Field(description="Indicators that were over already, and left out.")] = 0
    bad: Annotated[int, Field(description="Lines that could not be used.")] = 0
    bad_lines: Annotated[tuple[BadLine, ...], Field(description="The first hundred of them.")] = ()
    unknown_words: Annotated[dict[str, int], Field(description="Words without a mapping, with how many lines.")] = {}
    aside: Annotated[int, Field(description="Objects that cannot be expressed here, kept aside.")] = 0
    added: int = 0
    removed: int = 0
    changed: int = 0
    bookmark: Annotated[str | None, Field(description="Up to where a TAXII collection was read.")] = None
    read_as: Annotated[str, Field(description="Fingerprint of how the feed was to be read then.")] = ""
    replaced: Annotated[
        int | None,
        Field(description="In place of which one it was put in force, 0 for none; None where it never was."),
    ] = None
    state: Annotated[
        Literal["in force", "waiting", "left out", "kept", "gone"], Field(description="`gone`: only its figures.")
    ] = "kept"


class Poll(Noun):
    """The last time that a feed was fetched."""

    at: Timestamp
    result: Annotated[Literal["new", "unchanged", "failed", "waiting"], Field(description="What came of it.")]
    problem: Annotated[str | None, Field(description="Why it failed. What was in force stays in force.")] = None
    failures: Annotated[int, Field(description="How often it has failed in a row.")] = 0


@shows(Feed)
class FeedSummary(Feed):
    """A feed with what became of it."""

    name: Name
    version: int
    sentence: Annotated[str, Field(description="What it brings, in words.")]
    in_force: Annotated[Generation | None, Field(description="The generation that counts now.")] = None
    waiting: Annotated[Generation | None, Field(description="One that waits to be looked at.")] = None
    last_poll: Poll | None = None
    next_poll: Timestamp | None = None
    held: Annotated[bool, Field(description="Put back to an older generation: the schedule rests until resumed.")] = (
        False
    )
    progress: FeedProgress | None = None
    credential: Annotated[bool, Field(description="Whether a name and password, or a token, are sent.")] = False
    rulesets: Annotated[tuple[Key, ...], Field(description="The rulesets that its indicators are in.")] = ()


class FeedCredential(Noun):
    """What a feed is fetched with: a name and a password, or a token. It is never told again."""

    user: Text | None = None
    password: Annotated[str | None, StringConstraints(max_length=1000)] = None
    token: Annotated[str | None, StringConstraints(max_length=4000)] = None

    @model_validator(mode="after")
    def _one_way(self) -> Self:
        if (self.token is None) == (self.user is None):
            raise ValueError("give a user with a password, or a token")
        return self


class CategoryIndexState(Noun):
    """The compiled category index as it is in force."""

    digest: str
    hosts: Annotated[int, Field(description="How many hosts have an entry.")]
    made_at: Timestamp
    base_bytes: int
    difference_bytes: Annotated[int, Field(description="What a device that has the base fetches; 0 for nothing.")] = 0
    difference_hosts: int = 0
    generations: Annotated[dict[str, int], Field(description="Feed → the generation that it was made from.")] = {}
    newly_registered_days: int
    devices_current: Annotated[int, Field(description="Machines that have it.")] = 0
    devices_behind: int = 0
