"""What a probe set is drawn up from."""

from __future__ import annotations

from typing import Annotated, Self

from pydantic import Field, model_validator

from portero.core.nouns.assignment import AssignmentKey
from portero.core.nouns.base import Key, Name, Noun, Text
from portero.core.nouns.probe_set import Targets

MOST_HOSTS = 500


class DrawnFrom(Noun):
    """What a probe set is drawn up from: a ruleset, an assignment, hosts that are visited, or that were stopped."""

    key: Annotated[Key, Field(description="The key that the set will have.")]
    name: Name | None = None
    ruleset: Annotated[Key | None, Field(description="Each of its selectors, and one beside it that must pass.")] = None
    assignment: Annotated[
        AssignmentKey | None, Field(description="The same of its ruleset, where and for whom it counts.")
    ] = None
    visited: Annotated[
        int | None, Field(ge=1, le=MOST_HOSTS, description="So many hosts, the most visited ones, stay open.")
    ] = None
    stopped: Annotated[
        int | None, Field(ge=1, le=MOST_HOSTS, description="So many hosts, those stopped most often, stay so.")
    ] = None
    device: Annotated[Text | None, Field(description="With stopped: only what was stopped on this machine.")] = None
    days: Annotated[int, Field(ge=1, le=365, description="How far back visits and stops are looked at.")] = 14
    to: Annotated[Targets, Field(description="Where it counts; else where the assignment does, or everywhere.")] = ()

    @model_validator(mode="after")
    def _one_source(self) -> Self:
        given = [name for name in ("ruleset", "assignment", "visited", "stopped") if getattr(self, name) is not None]
        if len(given) != 1:
            raise ValueError("a set is drawn up from one of ruleset, assignment, visited, stopped")
        if self.device is not None and self.stopped is None:
            raise ValueError("device goes with stopped")
        return self
