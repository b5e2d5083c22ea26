"""Evidence: a signed document of a run, which is checked with no service."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from portero.core.nouns.action import Verdict
from portero.core.nouns.base import Key, Noun, Timestamp
from portero.core.nouns.layer import Layer
from portero.core.nouns.run import ProbeResult, RunSummary

EVIDENCE_FORMAT = 1


class EvidenceMachine(Noun):
    """A machine of the run, with what it held."""

    id: str
    hostname: str
    groups: Annotated[tuple[Key, ...], Field(description="Strongest first.")]
    bundle: Annotated[
        str | None, Field(description="Digest of what it ruled by as it answered; else of what it held, if anything.")
    ] = None
    answered: Annotated[bool | None, Field(description="Whether it answered; None where it was not asked.")] = None


class EvidenceSeen(Noun):
    """What a machine saw of a probe, beside what was predicted."""

    hostname: str
    set: Key
    number: int
    at: Timestamp
    expected: Verdict
    predicted: Verdict | None = None
    observed: Verdict | None = None
    layer: Layer | None = None
    agrees: bool | None = None
    sentence: str


class Evidence(Noun):
    """What is signed: a run with what came of it, the machines, what each saw, and what was not reached."""

    portero_evidence: Literal[1]
    estate: Annotated[str, Field(description="What the estate is called.")]
    service: Annotated[str, Field(description="Fingerprint of the key by which the service signs what machines hold.")]
    key: Annotated[str, Field(description="Fingerprint of the key that signs this.")]
    made_at: Timestamp
    made_by: str
    policy: Annotated[str, Field(description="SHA-256 of the estate document of the run's revision.")]
    run: RunSummary
    results: tuple[ProbeResult, ...]
    machines: tuple[EvidenceMachine, ...]
    seen: tuple[EvidenceSeen, ...] = ()
    unreached: Annotated[tuple[str, ...], Field(description="Machines that were asked and did not answer.")] = ()


class EvidenceSummary(Noun):
    """Evidence that is kept."""

    id: int
    run: int
    kind: Annotated[str, Field(description="Of a predicted run, or of an observed one.")]
    revision: int
    made_at: Timestamp
    made_by: str
    sha256: Annotated[str, Field(description="Of the file.")]
    sentence: Annotated[str, Field(description="What came of the run.")]


class NeverObserved(Noun):
    """How many machines have tried some probe, and a page of those that never have."""

    machines: int
    observed: int
    items: Annotated[tuple[str, ...], Field(description="Hostnames of those that never have.")]
    next: str | None = None
    total: int
    sentence: str
