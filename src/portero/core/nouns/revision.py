"""The number of the estate's state, and what each change did."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import ConfigDict, Field

from portero.core.nouns.base import Noun, Timestamp
from portero.core.nouns.estate import NOUNS, PARTS
from portero.core.nouns.evidence import EvidenceSummary
from portero.core.nouns.proof import Proof, ProofState

if TYPE_CHECKING:
    NounWord = str
else:
    NounWord = Literal[(*NOUNS, *PARTS)]
"""What of an estate can change, by its word."""


class Change(Noun):
    """One object that a revision made, altered or removed, whole as it was before and after."""

    noun: NounWord
    key: str
    verb: Literal["created", "changed", "removed"]
    before: dict[str, Any] | None = None
    after: dict[str, Any] | None = None


class Revision(Noun):
    """One committed change of the estate."""

    number: int
    at: Timestamp
    by: Annotated[str, Field(description="Who made it.")]
    summary: Annotated[str, Field(description="What it did, in one sentence.")]
    reason: str | None = None
    changes: Annotated[
        tuple[Change, ...], Field(description="What it changed; in lists the first few, without their documents.")
    ] = ()
    changed: Annotated[int, Field(description="How many objects it changed.")] = 0
    devices: Annotated[int, Field(description="How many devices got a new bundle by it.")] = 0
    proof: Annotated[ProofState | None, Field(description="How far its proof is, where it carried probes.")] = None


class ToldChange(Change):
    """A change in words, and as a difference of the two documents."""

    sentence: Annotated[str, Field(description="What it did: “changed ruleset no-gambling”.")]
    details: Annotated[tuple[str, ...], Field(description="What differs, one sentence each.")]
    difference: Annotated[str, Field(description="The document before and after, as a unified difference of YAML.")]


class ToldRevision(Noun):
    """A committed change of the estate, told object by object."""

    number: int
    at: Timestamp
    by: str
    summary: str
    reason: str | None = None
    changed: Annotated[int, Field(description="How many objects it changed.")] = 0
    devices: Annotated[int, Field(description="How many devices got a new bundle by it.")] = 0
    changes: tuple[ToldChange, ...] = ()
    proof: Annotated[Proof | None, Field(description="What its probes came to before it, and come to since.")] = None
    evidence: Annotated[tuple[EvidenceSummary, ...], Field(description="Of runs at this revision, newest first.")] = ()


class RevisionComparison(Noun):
    """What differs between two revisions."""

    from_: Annotated[int, Field(alias="from")]
    to: int
    summary: Annotated[str, Field(description="In one sentence, as if it were one change.")]
    changes: tuple[ToldChange, ...]
    model_config = ConfigDict(populate_by_name=True, serialize_by_alias=True)


class LastChange(Noun):
    """Who last changed something that governs a machine."""

    noun: NounWord
    key: str
    sentence: Annotated[str, Field(description="What it does, or what it is, in words.")]
    because: Annotated[str, Field(description="Why it governs the machine: “by group ships”.")]
    revision: int
    at: Timestamp
    by: str
    reason: str | None = None
