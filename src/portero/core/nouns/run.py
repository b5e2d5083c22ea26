"""Runs: probe sets tried over machines, and what came of it."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from portero.core.nouns.action import Verdict
from portero.core.nouns.assignment import Target
from portero.core.nouns.attempt import Url
from portero.core.nouns.base import Key, Noun, Text, Timestamp
from portero.core.nouns.finding import RuleAt
from portero.core.nouns.probe_set import ReachedBy, RunKind, Window
from portero.core.nouns.urls import parse_visit
from portero.core.nouns.why import CauseCode, Stage

RunState = Literal["running", "done", "failed"]

Shortfall = CauseCode | Literal["other-layer", "other-rule", "not-judged", "disagreement", "no-answer", "not-tried"]
"""Why a probe did not come out as expected: a cause; stopped, but by another layer or rule; it cannot be judged; or, of
machines that were asked: otherwise than predicted; no answer; it could not be tried there.
"""


class RunCause(Noun):
    """Why a probe does not come out as expected on some machines."""

    code: Shortfall
    stage: Stage | None = None
    devices: int
    examples: Annotated[tuple[str, ...], Field(description="Some of them, by hostname.")] = ()
    detail: Annotated[str, Field(description="What is so on one of them, with its proof.")]
    remedy: Annotated[str, Field(description="The one next step.")]


class DecidingRule(Noun):
    """A rule that settled a probe, and on how many machines."""

    ruleset: Key
    selector: str
    devices: int


class ProbeResult(Noun):
    """What a probe came to, over all machines on which it counts."""

    set: Key
    number: Annotated[int, Field(description="Its place in the set, from 1.")]
    name: str | None = None
    tried: str
    what: Annotated[
        str, Field(description="What is tried, as a word to ask about: a URL, program:NAME, or a SHA-256.")
    ] = ""
    user: str | None = None
    browser: str | None = None
    how: Annotated[str, Field(description="In which way, in words; empty where in any.")] = ""
    to: Annotated[tuple[Target, ...], Field(description="Where it counts.")]
    expected: Verdict
    devices: Annotated[int, Field(description="On how many machines it was tried.")]
    meant: Annotated[int, Field(description="On how many of them the estate means what is expected.")]
    passed: Annotated[int, Field(description="On how many it comes out as expected.")]
    causes: Annotated[
        tuple[RunCause, ...], Field(description="Why it does not on the others, most machines first.")
    ] = ()
    decided_by: tuple[DecidingRule, ...] = ()
    disagreeing: Annotated[int, Field(description="On how many machines something else was seen than predicted.")] = 0
    sentence: str = ""

    @property
    def failed(self) -> int:
        """On how many machines it does not come out as expected."""
        return self.devices - self.passed


class RunSummary(Noun):
    """A run, without what came of each probe."""

    id: int
    kind: RunKind = "predicted"
    state: RunState
    at: Timestamp
    by: str
    revision: int
    sets: tuple[Key, ...]
    on: Annotated[tuple[Target, ...], Field(description="Only on these; everywhere where none is named.")] = ()
    devices: Annotated[int, Field(description="On how many machines something was tried.")] = 0
    probes: int = 0
    failed: Annotated[int, Field(description="How many probes did not come out as expected everywhere.")] = 0
    answered: Annotated[int | None, Field(description="Of an observed one: how many machines answered.")] = None
    disagreements: Annotated[int, Field(description="How often a machine saw something else than predicted.")] = 0
    nowhere: Annotated[int, Field(description="How many probes count on no machine there.")] = 0
    done: Annotated[float, Field(description="How far it is, from 0 to 1.")] = 1.0
    seconds: Annotated[float | None, Field(description="How long it took.")] = None
    problem: Annotated[str | None, Field(description="Why it could not be done.")] = None
    has_devices: Annotated[bool, Field(description="Whether its machines can still be listed.")] = True
    sentence: Annotated[str, Field(description="What came of it, in words.")] = ""


class Run(RunSummary):
    """A run and what came of each probe."""

    results: tuple[ProbeResult, ...] = ()


class ProbedRules(Noun):
    """How many rules in force have settled a probe of late, and a page of those that have not."""

    days: int
    rules: Annotated[int, Field(description="Rules in force that somebody has written; each once.")]
    probed: int
    items: Annotated[tuple[RuleAt, ...], Field(description="Those that no probe has met.")]
    next: str | None = None
    total: int
    sentence: str


class NewRun(Noun):
    """What is to be tried, and where."""

    sets: Annotated[
        tuple[Key, ...], Field(max_length=500, description="Keys of probe sets; all where none is named.")
    ] = ()
    on: Annotated[
        tuple[Text, ...], Field(max_length=200, description="Only on these groups and machines; a word each.")
    ] = ()
    kind: RunKind = "predicted"
    visit: Annotated[
        Url | None, Field(description="Have the machines in `on` try this address, in place of kept probes; observed.")
    ] = None
    expect: Annotated[Verdict, Field(description="What is expected of `visit`.")] = Verdict.BLOCK
    browser: Annotated[Text | None, Field(description="In which browser `visit` is tried; else in the first.")] = None
    window: Annotated[
        Window | None, Field(description="In which kind of window `visit` is tried; an ordinary one.")
    ] = None
    reached_by: Annotated[ReachedBy | None, Field(description="How the address of `visit` is come by; typed in.")] = (
        None
    )
    pictures: Annotated[bool, Field(description="Have them send a picture of each page; kept for 30 days.")] = False
    seconds: Annotated[
        float, Field(ge=5, le=600, description="So long an observed run waits for the machines to answer.")
    ] = 60.0

    @model_validator(mode="after")
    def _tried_by_machines(self) -> Self:
        if (self.visit is not None or self.pictures) and self.kind != "observed":
            raise ValueError("visit and pictures go with machines that try it: say kind observed")
        if self.visit is not None and (self.sets or not self.on):
            raise ValueError("a visit is tried on the machines and groups named in on, and goes with no sets")
        if self.visit is None and (self.browser or self.window or self.reached_by):
            raise ValueError("browser, window and reached_by say how visit is tried; name a visit, or leave them out")
        if self.visit is not None:
            parse_visit(self.visit)
        return self
