"""A case: what a machine saw otherwise than predicted, with all that the prediction was made of."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from portero.core.nouns.attempt import Attempt
from portero.core.nouns.base import Noun
from portero.core.nouns.device import Facts, Lifecycle
from portero.core.nouns.observation import Observation


class KeptBundle(Noun):
    """A whole bundle: its digest, and its bytes packed as they travel."""

    digest: Annotated[str, Field(max_length=80)]
    packed: Annotated[str, Field(max_length=70_000_000, description="As base64.")]


class ProbeCase(Noun):
    """All that it takes to decide an attempt again with no service: the bundles, the machine, what is known of the host
    and of the person; and both outcomes.
    """

    portero_case: Literal[1]
    observation: Observation
    attempt: Annotated[Attempt, Field(description="As it was decided: with its moment and its place.")]
    newest: Annotated[KeptBundle, Field(description="What the machine should have.")]
    held: Annotated[KeptBundle | None, Field(description="What it said it has; None where that is nothing.")] = None
    facts: Facts
    lifecycle: Lifecycle
    current: bool
    index_current: bool
    has_index: bool = True
    since: dict[str, float] = {}
    hosts: Annotated[
        dict[str, tuple[str, ...]], Field(description="The categories of the host and of those above it.")
    ] = {}
    user_groups: tuple[str, ...] = ()
    catalogue: dict[str, tuple[str, ...]] = {}


class Replayed(Noun):
    """What a case comes to when it is decided again."""

    observation: Observation
    decided: Annotated[str, Field(description="What it comes to now: a verdict.")]
    reproduced: Annotated[bool, Field(description="Whether that is what was predicted then.")]
    agrees: Annotated[bool, Field(description="Whether that is what the machine saw.")]
    why: str
    sentence: str
