"""The short-lived, use-limited code by which a device joins."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from portero.core.nouns.base import Noun, Timestamp
from portero.core.nouns.device import Labels


class NewEnrolmentCode(Noun):
    """How often and how long a code may be used, and the labels it puts on devices."""

    uses: Annotated[int, Field(ge=1, le=100_000)] = 1
    hours: Annotated[int, Field(ge=1, le=24 * 90)] = 24
    labels: Labels = {}


class EnrolmentCode(Noun):
    """A code just made; it is shown this once."""

    code: str
    uses: int
    expires_at: Timestamp
