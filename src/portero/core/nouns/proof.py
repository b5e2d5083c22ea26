"""Proof of a change: the probes that it carried, what they came to before it, and what they come to since."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from portero.core.nouns.base import Noun, Timestamp
from portero.core.nouns.run import ProbeResult

ProofState = Literal["waiting", "holds", "ended"]


class ProvedProbe(Noun):
    """A probe that a change carried."""

    before: Annotated[ProbeResult, Field(description="What it came to as the change was made.")]
    after: Annotated[ProbeResult | None, Field(description="What it came to when it was last tried.")] = None
    since: Annotated[Timestamp | None, Field(description="Since when it comes out as expected on every machine.")] = (
        None
    )
    sentence: Annotated[str, Field(description="The pair in words.")]


class Proof(Noun):
    """What proves a change: it waits until every probe comes out as expected everywhere, holds since then, or has
    ended without: a day after the change it is tried no more.
    """

    revision: int
    state: ProofState
    at: Annotated[Timestamp, Field(description="When the probes were tried before the change.")]
    tried_at: Annotated[Timestamp | None, Field(description="When they were last tried after it.")] = None
    probes: tuple[ProvedProbe, ...]
    sentence: str
