"""Something in the estate that an administrator should settle."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field, StringConstraints

from portero.core.nouns.base import Key, Noun, Text, Timestamp


class FindingKind(StrEnum):
    """What sort of thing is to be settled."""

    DISAGREEMENT = "disagreement"
    CONTRADICTION = "contradiction"
    OPENED_BY_WEAKER = "opened-by-weaker"
    SOFTENED = "softened"
    LAYERS_DISAGREE = "layers-disagree"
    SHADOWED = "shadowed"
    NO_DEVICE = "no-device"
    NEVER_OPEN = "never-open"
    ENDED = "ended"
    ENDING = "ending"
    OWNER_GONE = "owner-gone"
    BROAD = "broad"
    UNENFORCEABLE = "unenforceable"
    BLOCKS_ESSENTIAL = "blocks-essential"
    UNDONE_BY_LAYER = "undone-by-layer"
    NOT_CARRIED_OUT = "not-carried-out"
    ALLOW_BEATEN = "allow-beaten"
    UNKNOWN_NAME = "unknown-name"
    LIST_TRUNCATED = "list-truncated"
    PATTERN_CHANGED = "pattern-changed"
    PATTERN_IGNORED = "pattern-ignored"
    LIST_LACKS_HOSTS = "list-lacks-hosts"
    PROGRAM_PRESENT = "program-present"


class Severity(StrEnum):
    """How urgent it is."""

    HIGH = "high"
    MEDIUM = "medium"
    LOW = "low"


SEVERITIES = tuple(Severity)
"""The most urgent first."""


class Remedy(Noun):
    """A change that settles a finding, ready to be made."""

    key: Key
    sentence: Annotated[str, Field(description="What it would do, in words.")]


class NewAcceptance(Noun):
    """Why a finding may stay as it is, and until when."""

    reason: Annotated[str, StringConstraints(min_length=3, max_length=2000)]
    until: Annotated[Timestamp, Field(description="From then on it is open again.")]


class Acceptance(NewAcceptance):
    """Somebody's word that a finding may stay as it is, for some time."""

    by: str
    at: Timestamp


class RuleAt(Noun):
    """A rule: its ruleset, its number there from 1, and what it names."""

    ruleset: Key
    rule: int
    selector: str
    address_list: Annotated[Key | None, Field(description="The address list that brings it.")] = None


class Finding(Noun):
    """Something to settle. Its id stays the same as long as it is about the same things."""

    id: Annotated[str, Field(description="Names it: its kind and what it is about.")]
    kind: FindingKind
    severity: Severity
    sentence: Annotated[str, Field(description="What is the matter, in words.")]
    detail: Annotated[str | None, Field(description="What comes of it, in words.")] = None
    assignments: tuple[str, ...] = ()
    rulesets: tuple[Key, ...] = ()
    groups: Annotated[tuple[Key, ...], Field(description="Groups that it is about.")] = ()
    rules: Annotated[tuple[RuleAt, ...], Field(description="The rules that it is about, the first ones.")] = ()
    hosts: Annotated[tuple[Text, ...], Field(description="Hosts that it is about, the first ones.")] = ()
    browsers: Annotated[tuple[Text, ...], Field(description="Names of browsers that it is about.")] = ()
    devices: Annotated[int, Field(description="On how many machines.")] = 0
    examples: Annotated[tuple[str, ...], Field(description="Some of them, by hostname.")] = ()
    at: Annotated[Timestamp | None, Field(description="When something ends or ended.")] = None
    remedies: tuple[Remedy, ...] = ()
    accepted: Acceptance | None = None

    @property
    def is_open(self) -> bool:
        """Whether nobody has accepted it."""
        return self.accepted is None


class Findings(Noun):
    """A page of the findings of an estate, the most urgent first. The counts are those of all of them."""

    revision: int
    items: tuple[Finding, ...]
    next: Annotated[str | None, Field(description="The cursor of the next page; None at the end.")] = None
    total: Annotated[int, Field(description="How many there are of those that were asked for.")]
    open: Annotated[dict[Severity, int], Field(description="How many are open, by severity.")]
    kinds: Annotated[dict[FindingKind, int], Field(description="How many are open, by kind.")]
    accepted: Annotated[int, Field(description="How many somebody has accepted.")]


class ChosenRemedy(Noun):
    """Which remedy to take."""

    remedy: Key


class DeviceName(Noun):
    """A device by its names."""

    id: str
    hostname: str
