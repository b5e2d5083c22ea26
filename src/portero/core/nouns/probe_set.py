"""Attempts with the verdicts that are expected of them, kept as the estate's acceptance check."""

from __future__ import annotations

from typing import Annotated, ClassVar, Self

from pydantic import Field, model_validator

from portero.core.nouns.action import Verdict
from portero.core.nouns.assignment import Target
from portero.core.nouns.attempt import Program, Url
from portero.core.nouns.base import Key, Name, Noun, Text, Timestamp
from portero.core.nouns.device import Place
from portero.core.nouns.registry import Authored, Declared


class Probe(Noun):
    """One attempt, on the machines of a group or on one machine, and the verdict that is expected."""

    to: Target
    visit: Url | None = None
    start: Program | None = None
    expect: Verdict
    user: Text | None = None
    browser: Text | None = None
    at: Timestamp | None = None
    place: Place | None = None
    name: Name | None = None

    @model_validator(mode="after")
    def _one_attempt(self) -> Self:
        if (self.visit is None) == (self.start is None):
            raise ValueError("a probe names either a visit or a start")
        return self


class ProbeSet(Authored):
    """A named list of probes."""

    declared: ClassVar = Declared("probe set", "probe_sets", about="Attempts with the verdicts that are expected.")
    key: Key
    name: Name | None = None
    probes: Annotated[tuple[Probe, ...], Field(max_length=5000)] = ()
