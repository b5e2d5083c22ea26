"""Attempts with the verdicts that are expected of them, kept as the estate's acceptance check."""

from __future__ import annotations

from datetime import UTC, datetime, tzinfo
from typing import Annotated, ClassVar, Literal, Self

from dateutil.rrule import rrulestr
from pydantic import AfterValidator, BeforeValidator, Field, StringConstraints, model_validator

from portero.core.nouns.action import Verdict
from portero.core.nouns.assignment import Target, listed
from portero.core.nouns.attempt import Attempt, Program, Url, word_of
from portero.core.nouns.base import Key, Name, Noun, Text, Timestamp
from portero.core.nouns.device import Place
from portero.core.nouns.layer import Layer
from portero.core.nouns.registry import Authored, Declared

Window = Literal["ordinary", "private"]
ReachedBy = Literal["typed", "link", "redirect"]
"""How an address is come by: typed in; by a link of a search page; by a link there that redirects to it."""
RunKind = Literal["predicted", "observed"]
"""What machines would do, by the code that decides there; or what they did when asked to try."""
_BY: dict[ReachedBy, str] = {"typed": "typed in", "link": "by a link", "redirect": "by a redirect"}
Targets = Annotated[tuple[Target, ...], BeforeValidator(listed), Field(max_length=200)]


class Probe(Noun):
    """One attempt, and what is expected of it. One that expects `allow` is a counter-probe: what must go on working."""

    to: Annotated[
        Target | None, Field(description="Where it counts: a group or a device; else where its set does.")
    ] = None
    visit: Url | None = None
    start: Program | None = None
    expect: Verdict
    layer: Annotated[Layer | None, Field(description="The layer that should stop it.")] = None
    ruleset: Annotated[Key | None, Field(description="The ruleset whose rule should settle it.")] = None
    notice: Annotated[bool | None, Field(description="Whether a notice should show.")] = None
    user: Text | None = None
    browser: Text | None = None
    window: Annotated[Window | None, Field(description="The kind of browser window; an ordinary one.")] = None
    reached_by: Annotated[
        ReachedBy | None,
        Field(description="How the address is come by where machines really try: typed in, or from a search page."),
    ] = None
    at: Timestamp | None = None
    place: Place | None = None
    name: Name | None = None

    @model_validator(mode="after")
    def _one_attempt(self) -> Self:
        if (self.visit is None) == (self.start is None):
            raise ValueError("a probe names either a visit or a start")
        if self.expect is Verdict.ALLOW and (self.layer or self.notice):
            raise ValueError("layer and notice go with what is stopped; this probe expects allow")
        if self.start is not None and (self.window or self.reached_by):
            raise ValueError("window and reached_by go with a visit; this probe is a start")
        return self

    def attempt(self, device: str) -> Attempt:
        """The attempt on a device."""
        return Attempt(
            device=device,
            url=self.visit,
            start=self.start,
            user=self.user,
            browser=self.browser,
            at=self.at,
            place=self.place,
        )

    @property
    def what(self) -> str:
        """What is tried, as a word that can be asked about: a URL or a host, program:NAME, or a SHA-256."""
        return self.visit if self.visit is not None else word_of(self.start) if self.start is not None else ""

    @property
    def tried(self) -> str:
        """What is tried, in short."""
        if self.visit is not None:
            return self.visit
        given = self.start.model_dump(exclude_none=True) if self.start else {}
        return "start of " + " ".join(str(value) for value in given.values())

    @property
    def how(self) -> str:
        """In which way it is tried, in short: “in firefox, in a private window, by a link”; empty where in any."""
        ways = (
            f"in {self.browser}" if self.browser else None,
            "in a private window" if self.window == "private" else None,
            _BY[self.reached_by] if self.reached_by else None,
            f"as {self.user}" if self.user else None,
            self.place,
            f"at {self.at:%Y-%m-%d %H:%M} UTC" if self.at else None,
        )
        return ", ".join(filter(None, ways))


def _a_rule(value: str) -> str:
    """A rule of RFC 5545, at the most once an hour."""
    text = value.strip().upper().removeprefix("RRULE:")
    try:
        rrulestr(text, dtstart=_BEGINNING)
    except (ValueError, KeyError, TypeError) as problem:
        raise ValueError(f"“{value[:80]}” is no rule of RFC 5545, such as FREQ=DAILY;BYHOUR=6;BYMINUTE=0") from problem
    if any(f"FREQ={often}" in text for often in ("SECONDLY", "MINUTELY")) or "COUNT=" in text or "UNTIL=" in text:
        raise ValueError("a set is run hourly at the most, and without an end: leave COUNT and UNTIL out")
    if "BYSECOND" in text or ("," in text.partition("BYMINUTE=")[2].partition(";")[0]):
        raise ValueError("a set is run hourly at the most: name one minute, and no seconds")
    return text


_BEGINNING = datetime(2026, 1, 1, tzinfo=UTC)
Recurrence = Annotated[str, StringConstraints(min_length=1, max_length=200), AfterValidator(_a_rule)]


class ProbeSet(Authored):
    """A named list of probes."""

    declared: ClassVar = Declared("probe set", "probe_sets", about="Attempts with the verdicts that are expected.")
    key: Key
    name: Name | None = None
    to: Annotated[Targets, Field(description="Where those of its probes count that name no place of their own.")] = ()
    probes: Annotated[tuple[Probe, ...], Field(max_length=5000)] = ()
    every: Annotated[
        Recurrence | None,
        Field(description="When it is run by itself: a rule of RFC 5545, on the clock of the settings."),
    ] = None
    every_kind: Annotated[RunKind | None, Field(description="As what it is run then; as a predicted run.")] = None

    @model_validator(mode="after")
    def _all_count_somewhere(self) -> Self:
        if not self.to:
            for number, probe in enumerate(self.probes, start=1):
                if probe.to is None:
                    raise ValueError(f"probe {number} names no “to”, and neither does its set; say where it counts")
        return self

    def next_run(self, after: datetime, zone: tzinfo) -> datetime | None:
        """When it is to be run by itself next, behind a moment; None where it is not."""
        if self.every is None:
            return None
        # by the day, so that the years since some beginning are not gone through
        begins = after.astimezone(zone).replace(month=1, day=1, hour=0, minute=0, second=0, microsecond=0)
        found: datetime | None = rrulestr(self.every, dtstart=begins).after(after.astimezone(zone))
        return found

    def targets_of(self, probe: Probe) -> tuple[Target, ...]:
        """Where one of its probes counts."""
        return self.to if probe.to is None else (probe.to,)
