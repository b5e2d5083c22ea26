"""One ruleset put on groups: where, and how strongly."""

from __future__ import annotations

from collections.abc import Collection
from enum import StrEnum
from typing import Annotated, Any

from pydantic import BeforeValidator, Field

from portero.core.nouns.action import Override
from portero.core.nouns.base import Key, Note, Noun


class State(StrEnum):
    """Whether an assignment is in force."""

    DRAFT = "draft"
    ACTIVE = "active"
    PAUSED = "paused"


def _listed(value: Any) -> Any:
    return [value] if isinstance(value, str) else value


class Assignment(Noun):
    """One ruleset put on groups. A draft or a paused one decides nothing."""

    key: Key
    ruleset: Key
    to: Annotated[
        tuple[Key, ...], BeforeValidator(_listed), Field(min_length=1, max_length=200, description="Keys of groups.")
    ]
    action: Annotated[Override | None, Field(description="Override for the whole ruleset: log, warn or block.")] = None
    mandatory: bool = False
    state: State = State.ACTIVE
    reason: Note | None = None


class NewAssignment(Assignment):
    """An assignment about to be made; without a key it gets one from its ruleset and its first target."""

    key: Key | None = None  # type: ignore[assignment]

    def keyed(self, taken: Collection[str]) -> Assignment:
        """The assignment with a key that is not among those taken."""
        key = self.key or made_key(self.ruleset, self.to[0], taken)
        return Assignment.model_validate({**self.model_dump(), "key": key})


class AssignmentSummary(Assignment):
    """An assignment as lists show it."""

    sentence: Annotated[str, Field(description="What it does, in words.")]
    devices: Annotated[int, Field(description="How many devices it reaches now.")]
    version: Annotated[int, Field(description="The revision that last changed it; also its ETag.")]


def made_key(ruleset: str, first_target: str, taken: Collection[str]) -> str:
    """The key of an assignment given without one: ruleset and first target joined by `--`, numbered where taken."""
    base = f"{ruleset}--{first_target}"
    if len(base) > 60:
        base = base[:60].rstrip("-")
    key, number = base, 1
    while key in taken:
        number += 1
        key = f"{base}--{number}"
    return key
