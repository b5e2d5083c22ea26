"""What needs a decision, and what should be known while a rule is being written."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from portero.core.nouns.assignment import NewAssignment
from portero.core.nouns.base import Noun, Timestamp
from portero.core.nouns.finding import Severity
from portero.core.nouns.ruleset import Ruleset


class Writing(Noun):
    """A ruleset or an assignment that is being written; nothing of it is kept."""

    ruleset: Ruleset | None = None
    assignment: NewAssignment | None = None


class AuthoringWarning(Noun):
    """What should be known of a rule or an assignment while it is being written."""

    code: str
    rule: Annotated[int | None, Field(description="The rule's number in the ruleset, from 1; None for all of it.")] = (
        None
    )
    sentence: str
    devices: Annotated[int | None, Field(description="On how many machines, where that counts.")] = None
    instead: Annotated[
        str | None, Field(description="A host or pattern that would be stronger, or that may be meant.")
    ] = None


class WorkItem(Noun):
    """Something that needs a decision, with its one next step."""

    kind: Literal["gap", "finding", "ending", "straggler", "feed", "run"]
    severity: Severity
    sentence: str
    devices: int | None = None
    next: Annotated[str, Field(description="The next step, in words.")]
    link: Annotated[str, Field(description="Where in the console that is done.")]
    at: Timestamp | None = None


class Worklist(Noun):
    """What needs a decision, most urgent first."""

    revision: int
    items: tuple[WorkItem, ...]
