"""What the person sees when something is warned or blocked."""

from __future__ import annotations

from typing import Annotated, ClassVar

from pydantic import Field, StringConstraints

from portero.core.nouns.base import Key, Name, Note
from portero.core.nouns.registry import Authored, Declared, shows

STANDARD_NOTICE = "standard"
"""The notice that is always there."""


class Notice(Authored):
    """A notice: its text, whom to turn to, a picture by its address within the service."""

    declared: ClassVar = Declared("notice", "notices", about="What people see where something is warned of or blocked.")
    key: Key
    name: Name | None = None
    title: Annotated[str, StringConstraints(max_length=200)] | None = None
    text: Annotated[Note | None, Field(description="What it says, beside the reason, which is generated.")] = None
    contact: Annotated[str, StringConstraints(max_length=200)] | None = None
    shows_ground: Annotated[bool, Field(description="Whether it tells the ground of what stops or warns.")] = False
    picture: Annotated[str, StringConstraints(max_length=1024)] | None = None


@shows(Notice)
class NoticeSummary(Notice):
    """A notice as lists show it."""

    version: Annotated[int, Field(description="The revision that last changed it; also its ETag.")]
