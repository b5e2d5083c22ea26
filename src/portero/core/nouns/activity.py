"""The attempts that devices report."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, StringConstraints, model_validator

from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Url
from portero.core.nouns.base import MOST_NUMBERED, Key, Noun, Text, Timestamp
from portero.core.nouns.device import Application
from portero.core.nouns.verdict import RuleReference

Reference = Annotated[
    str,
    StringConstraints(pattern=r"^[0-9A-Z]{4}-[0-9A-Z]{4}$"),
    Field(description="The code on the notice, by which a help desk finds the record."),
]


MOST_A_DAY = 50_000
"""So many entries of activity are kept of a device in a day: attempts, and hours' counts of hosts."""


FoundRunning = Literal["found", "ended"]
"""A program that may not start and ran already: it was found so, or ended."""


class ReportedAttempt(Noun):
    """One attempt as a device reports it: a visit, with `url` and `host`, or the start of a program, with `start`.

    (device, seq) names it, so it may be sent again.
    """

    seq: Annotated[int, Field(ge=1, le=MOST_NUMBERED)]
    at: Timestamp
    url: Url | None = None
    host: Annotated[str, StringConstraints(max_length=253)] | None = None
    start: Annotated[Application | None, Field(description="The program that was started.")] = None
    parent: Annotated[
        str | None, StringConstraints(max_length=1024), Field(description="The program from which it was started.")
    ] = None
    running: Annotated[
        FoundRunning | None,
        Field(description="No start: the program ran already as the rule came, and was found so, or ended."),
    ] = None
    user: Text | None = None
    browser: Text | None = None
    categories: Annotated[tuple[Key, ...], Field(max_length=45)] = ()
    verdict: Verdict
    continued: Annotated[bool, Field(description="The person went on past a warning.")] = False
    logged: Annotated[bool, Field(description="A log rule matched.")] = False
    winner: RuleReference | None = None
    reference: Reference | None = None
    bundle: Annotated[str | None, StringConstraints(max_length=80)] = None

    @model_validator(mode="after")
    def _one_thing(self) -> Self:
        is_visit = self.url is not None and self.host is not None
        if is_visit == (self.start is not None) or (self.url is None) != (self.host is None):
            raise ValueError("an attempt is either a visit, with url and host, or a start, with a program")
        return self

    @property
    def tried(self) -> str:
        """What was tried, in short: the host, or the program by its product, file or path."""
        program = self.start
        return self.host or (program and (program.product or program.file or program.path)) or "a program"


class HourlyCount(Noun):
    """Allowed visits of one host in one hour, as a count."""

    hour: Timestamp
    host: Annotated[str, StringConstraints(max_length=253)]
    visits: Annotated[int, Field(ge=1, le=10**9)]


class StartCount(Noun):
    """Starts of a version of a program by one person in one hour, as a count."""

    hour: Timestamp
    program: Application
    user: Text | None = None
    starts: Annotated[int, Field(ge=1, le=10**9)]


class ActivityBatch(Noun):
    """What a device hands over at once. The counts of a batch are taken once, by its own number."""

    batch: Annotated[int, Field(ge=1, le=MOST_NUMBERED, description="Counts up; a batch sent again keeps its number.")]
    attempts: Annotated[tuple[ReportedAttempt, ...], Field(max_length=1000)] = ()
    counts: Annotated[tuple[HourlyCount, ...], Field(max_length=1000)] = ()
    starts: Annotated[tuple[StartCount, ...], Field(max_length=1000)] = ()


class Activity(ReportedAttempt):
    """One attempt as the service keeps it."""

    device: Annotated[str, Field(description="Permanent id of the device.")]
    hostname: str
    received_at: Timestamp
    test: Annotated[bool, Field(description="A visit to a test host; left out unless asked for.")] = False


Period = Literal["hour", "day"]


class PeriodCount(Noun):
    """The attempts of an hour or a day (UTC)."""

    at: Annotated[Timestamp, Field(description="When it begins.")]
    attempts: int
    verdicts: Annotated[dict[Verdict, int], Field(description="Of them, what came of how many.")] = {}


class TriedCount(Noun):
    """A host or program, and how often it was tried."""

    tried: str
    is_program: bool = False
    attempts: int


class ActivityCounts(Noun):
    """How many attempts were stopped, warned of or recorded, period by period; visits to test hosts left out."""

    per: Period
    items: Annotated[tuple[PeriodCount, ...], Field(description="Every period, the earliest first.")]
    most: Annotated[tuple[TriedCount, ...], Field(description="What was tried most often in all of them.")]
