"""The categories of a host as the organisation sees them."""

from __future__ import annotations

from typing import Annotated, ClassVar

from pydantic import Field, field_validator

from portero.core.nouns.base import Key, Note, Timestamp, unknown_word
from portero.core.nouns.registry import Authored, Declared, shows
from portero.core.nouns.urls import WebSite
from portero.core.nouns.web_taxonomy import TAXONOMY


class Correction(Authored):
    """The categories of a host as the organisation sees them, in place of what feeds say."""

    declared: ClassVar = Declared("correction", "corrections", key="host", about="Categories of hosts, put right.")
    host: WebSite
    categories: Annotated[tuple[Key, ...], Field(min_length=1, max_length=45)]
    reason: Note | None = None

    @field_validator("categories")
    @classmethod
    def _known(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        for key in value:
            if key not in TAXONOMY.categories:
                raise ValueError(unknown_word("category", key, TAXONOMY.categories))
        return tuple(sorted(set(value)))

    @field_validator("host")
    @classmethod
    def _no_test_host(cls, value: str) -> str:
        if TAXONOMY.category_of_test_host(value):
            raise ValueError(f"“{value}” is a test host and always keeps its category")
        return value


@shows(Correction)
class CorrectionSummary(Correction):
    """A correction with who made it, and what feeds say in its place."""

    by: str | None = None
    at: Timestamp | None = None
    feeds_say: Annotated[tuple[Key, ...], Field(description="The categories without it.")] = ()
    version: Annotated[int, Field(description="The revision that last changed it; also its ETag.")]
