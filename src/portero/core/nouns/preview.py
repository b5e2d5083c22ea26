"""The effect of a change before it is made."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field

from portero.core.nouns.action import STOPPING, Action, Verdict
from portero.core.nouns.base import Noun, Timestamp
from portero.core.nouns.finding import Finding
from portero.core.nouns.layer import Layer
from portero.core.nouns.readiness import BlockerCode
from portero.core.nouns.revision import Change
from portero.core.nouns.verdict import RuleReference


class Effect(StrEnum):
    """What becomes of something: from one word to another."""

    STOPPED = "stopped"
    WARNED = "warned"
    SOFTENED = "softened"
    RELEASED = "released"
    RECORDED = "recorded"
    UNRECORDED = "unrecorded"


def effect_of(before: Action, after: Action) -> Effect:
    """Newly stopped; newly warned of; softened, from block to warn; released; let through as before and recorded,
    or recorded no more.
    """
    if after is Action.BLOCK:
        return Effect.STOPPED
    if after is Action.WARN:
        return Effect.SOFTENED if before is Action.BLOCK else Effect.WARNED
    if before in STOPPING:
        return Effect.RELEASED
    return Effect.RECORDED if after is Action.LOG else Effect.UNRECORDED


class VerdictChange(Noun):
    """Something whose verdict would be another one: what, from what to what, on how many machines, and when."""

    subject: Annotated[str, Field(description="What is visited or started, as a selector: “category games”.")]
    words: Annotated[str, Field(description="The same in words: “Games”.")]
    alike: Annotated[int, Field(description="How many more of which the same becomes, such as hosts of a list.")] = 0
    alike_examples: tuple[str, ...] = ()
    summed: Annotated[bool, Field(description="All of them are a feed's indicators, and the words count them.")] = False
    before: Annotated[Action, Field(description="`log` where it is let through and recorded.")]
    after: Action
    effect: Effect
    devices: Annotated[int, Field(description="How many machines.")]
    when: Annotated[
        str | None, Field(description="In which circumstances; None where in all of them, now and later.")
    ] = None
    by: Annotated[str | None, Field(description="The ruleset and target that win then: “rest-hours on ships”.")] = None
    device: Annotated[str, Field(description="Hostname of one of the machines.")]
    at: Annotated[Timestamp, Field(description="A moment at which it differs.")]
    user: Annotated[str | None, Field(description="A person for whom it differs; None for anybody.")] = None
    place: str
    restarted: Annotated[
        bool, Field(description="Whether it has restarted since what holds until then was put in force.")
    ] = False
    url: Annotated[str | None, Field(description="A visit that shows it; None for a program.")] = None


class Hindrance(Noun):
    """Why what the change stops will not really be stopped on some machines."""

    code: BlockerCode | str
    layer: Layer | None = None
    devices: int
    detail: Annotated[str, Field(description="What it is, with the number of machines.")]
    remedy: str
    examples: tuple[str, ...] = ()


class TakingHold(Noun):
    """When it will have taken hold, by the machines' own rhythms. Seconds from now; None where nobody can say."""

    devices: Annotated[int, Field(description="How many machines have something to fetch.")]
    half: float | None = None
    most: Annotated[float | None, Field(description="Until nine of ten of those that are heard of.")] = None
    all: float | None = None
    unheard: Annotated[int, Field(description="Silent, or never heard of: they take it when they come back.")] = 0
    sentence: str = ""


class GateFailure(Noun):
    """A probe of the gate that would come out on fewer machines than before."""

    set: str
    number: Annotated[int, Field(description="Its place in the set, from 1.")]
    name: str | None = None
    tried: str
    expected: Verdict
    before: Verdict
    after: Verdict
    devices: Annotated[int, Field(description="On how many machines it would not come out any more.")]
    examples: Annotated[tuple[str, ...], Field(description="Some of them, by hostname.")] = ()
    rule: Annotated[RuleReference | None, Field(description="The rule that would settle it then.")] = None
    sentence: str


class Forecast(Noun):
    """What the estate means of a probe that a change carries, now and after it."""

    set: str
    number: Annotated[int, Field(description="Its place in the set, from 1.")]
    name: str | None = None
    tried: str
    expected: Verdict
    devices: Annotated[int, Field(description="On how many machines it counts.")]
    now: Annotated[int, Field(description="On how many of them what is expected is meant now.")]
    then: Annotated[int, Field(description="On how many it would be.")]
    lacking: Annotated[tuple[str, ...], Field(description="Some on which it would not be, by hostname.")] = ()
    refused: Annotated[
        bool,
        Field(
            description="Whether the change is refused for it: it would come out on fewer machines than now or, written"
            " with the change, on no more of them."
        ),
    ] = False
    sentence: str


class Preview(Noun):
    """What a change would do. Nothing was kept."""

    revision: Annotated[int, Field(description="The revision that it was compared with.")]
    summary: Annotated[str, Field(description="The change in one sentence.")]
    changes: tuple[Change, ...]
    sentences: Annotated[tuple[str, ...], Field(description="Each change in words.")]
    devices: Annotated[int, Field(description="How many machines would get another bundle.")]
    classes: Annotated[int, Field(description="How many classes of machines would.")]
    fleet: Annotated[int, Field(description="How many machines there are.")]
    verdicts: Annotated[tuple[VerdictChange, ...], Field(description="The most machines first; the first 500.")]
    effects: Annotated[dict[Effect, int], Field(description="How many subjects are newly stopped, released and so on.")]
    losses: Annotated[tuple[str, ...], Field(description="Who loses what, where the change touches everybody.")] = ()
    appearing: Annotated[tuple[Finding, ...], Field(description="Findings that appear.")] = ()
    settled: Annotated[tuple[Finding, ...], Field(description="Findings that go.")] = ()
    hindrances: Annotated[tuple[Hindrance, ...], Field(description="Where it will not hold, and why.")] = ()
    taking_hold: TakingHold
    gate: Annotated[
        tuple[GateFailure, ...], Field(description="Probes of the gate that would fail: the change is refused.")
    ] = ()
    proof: Annotated[
        tuple[Forecast, ...], Field(description="What becomes of the probes that the change carries.")
    ] = ()
