"""Telling machines at once to ask for what is new, and what became of that on each."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Self

from pydantic import Field, model_validator

from portero.core.nouns.base import Key, Noun, Text, Timestamp

MOST_NAMED = 1_000


class ReceiptState(StrEnum):
    """How far a machine is with a push, in the order in which it goes."""

    WAITING = "waiting"
    """It cannot be reached now, and is told when it comes."""
    TOLD = "told"
    FETCHED = "fetched"
    APPLIED = "applied"
    """It has said that it holds what it should."""
    FAILED = "failed"
    """It has said why it could not apply it."""


class NewPush(Noun):
    """Which machines are to be told: those named, those of a group, all that wait; or several of these."""

    devices: Annotated[tuple[Text, ...], Field(max_length=MOST_NAMED, description="By hostname or id.")] = ()
    group: Key | None = None
    waiting: Annotated[bool, Field(description="All that do not hold their newest bundle.")] = False
    reason: Annotated[str | None, Field(max_length=2_000)] = None

    @model_validator(mode="after")
    def _names_something(self) -> Self:
        if not (self.devices or self.group or self.waiting):
            raise ValueError("say which machines: devices, group or waiting")
        return self


class Push(Noun):
    """A push, and how many machines are how far with it."""

    id: str
    at: Timestamp
    by: str
    scope: Annotated[str, Field(description="Which machines were meant, in words.")]
    reason: str | None = None
    devices: int
    waiting: int = 0
    told: int = 0
    fetched: int = 0
    applied: int = 0
    failed: int = 0
    sentence: str


class Receipt(Noun):
    """How far one machine is with a push."""

    device: str
    hostname: str
    state: ReceiptState
    told_at: Timestamp | None = None
    fetched_at: Timestamp | None = None
    applied_at: Timestamp | None = None
    problem: Annotated[str | None, Field(description="Why it could not apply it, in its own words.")] = None
    last_heard: Timestamp | None = None
    expected_at: Annotated[
        Timestamp | None, Field(description="When it should be heard of next, by its own rhythm.")
    ] = None
