"""What another state of the estate would change."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from portero.core.nouns.action import Verdict
from portero.core.nouns.base import Key, Noun
from portero.core.nouns.revision import Change


class VerdictChange(Noun):
    """A web category whose verdict would be another one, and on how many devices."""

    category: Key
    before: Verdict
    after: Verdict
    devices: int


class EstateComparison(Noun):
    """What a document would change, object by object, and what comes of it."""

    changes: tuple[Change, ...]
    sentences: Annotated[tuple[str, ...], Field(description="Each change in words.")]
    devices: Annotated[int, Field(description="How many devices would get another bundle.")]
    verdicts: tuple[VerdictChange, ...]
    complete: Annotated[bool, Field(description="False where time ran out before every class was looked at.")]
    revision: Annotated[int | None, Field(description="The revision that it was compared with, or that it made.")] = (
        None
    )
