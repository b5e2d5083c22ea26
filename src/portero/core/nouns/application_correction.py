"""What a program is for as the organisation sees it."""

from __future__ import annotations

from typing import Annotated, ClassVar

from pydantic import Field

from portero.core.nouns.base import Note, Text, Timestamp
from portero.core.nouns.program import ProgramCategory
from portero.core.nouns.registry import Authored, Declared, shows


class ApplicationCorrection(Authored):
    """What a product is for, whatever its case and version, in place of what machines tell."""

    declared: ClassVar = Declared(
        *("application correction", "application_corrections"),
        key="product",
        about="What programs are for, put right.",
        key_has_strokes=True,
    )
    product: Text
    category: ProgramCategory
    reason: Note | None = None


@shows(ApplicationCorrection)
class ApplicationCorrectionSummary(ApplicationCorrection):
    """A correction with who made it, and what machines tell in its place."""

    by: str | None = None
    at: Timestamp | None = None
    machines_tell: Annotated[
        tuple[str, ...], Field(description="What it is for without it; several where they differ.")
    ] = ()
    version: Annotated[int, Field(description="The revision that last changed it; also its ETag.")]
