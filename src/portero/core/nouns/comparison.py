"""What differs between two states of the estate."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from portero.core.nouns.base import Noun
from portero.core.nouns.revision import Change


class EstateChange(Noun):
    """What putting a document changed, object by object."""

    revision: Annotated[int, Field(description="The revision that it made, or the newest where nothing changed.")]
    changes: tuple[Change, ...]
    sentences: Annotated[tuple[str, ...], Field(description="Each change in words.")]
