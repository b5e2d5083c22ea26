"""How far devices are with their newest bundles."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from portero.core.nouns.base import Noun, Timestamp


class RolloutState(Noun):
    """How far one device is with its newest bundle."""

    state: Literal["current", "waiting", "failed", "silent"]
    since: Timestamp | None = None
    revision: Annotated[int | None, Field(description="The revision of the bundle it holds.")] = None
    wanted_revision: int | None = None
    expected_in: Annotated[
        float | None, Field(description="Seconds until it should have it, by its own rhythm; None where unknown.")
    ] = None
    problem: Annotated[str | None, Field(description="Why applying failed, in the device's words.")] = None


class RolloutCounts(Noun):
    """How many devices are in each state, and the newest revision."""

    revision: int
    current: int = 0
    waiting: int = 0
    failed: int = 0
    silent: int = 0
