"""The site list as a browser of a machine or a group is handed it."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from portero.core.nouns.action import Action
from portero.core.nouns.base import Noun
from portero.core.nouns.coverage import BrowserFamily

ListPlatform = Literal["linux", "windows", "macos"]
"""The platforms for which browsers document managed policy, each with a form of its own."""


class NeedlessPattern(Noun):
    """A pattern that is not handed over, as the outcome is the same without it."""

    pattern: str
    action: Action
    by: Annotated[str | None, Field(description="The one that says the same; None: an allow of what nothing blocks.")]


class ChangedPattern(Noun):
    """A pattern that the browser cannot say as it is meant."""

    pattern: str
    action: Action
    got: Annotated[str | None, Field(description="What the browser gets instead; None where nothing.")]
    why: Annotated[str, Field(description="One sentence in plain words.")]


class PolicyFile(Noun):
    """The very list in the form that the platform documents."""

    name: str
    text: Annotated[str, StringConstraints(strip_whitespace=False)]
    place: Annotated[str | None, Field(description="Where the browser looks for it, by the coverage table.")] = None
    encoding: Annotated[str, Field(description="How it is to be written: utf-8, or utf-16 with its mark.")] = "utf-8"
    digest: Annotated[
        str | None, Field(description="SHA-256 of its bytes; None where nothing is on the list: then there is no file.")
    ] = None
    tried: Annotated[str, Field(description="How far this has been tried, by the coverage table.")]


class BrowserList(Noun):
    """The site list of a machine, or of a machine in a group alone, as one browser is handed it now."""

    of: str
    browser: str
    family: Annotated[BrowserFamily, Field(description="By whose rules the browser reads it.")]
    platform: ListPlatform
    sentence: str
    patterns: Annotated[int, Field(description="How many the merged list has.")]
    block: Annotated[tuple[str, ...], Field(description="What is blocked, as the browser is handed it, in order.")]
    allow: Annotated[tuple[str, ...], Field(description="What is allowed, as the browser is handed it, in order.")]
    limit: Annotated[int, Field(description="How many entries of each list the browser takes.")]
    needless: tuple[NeedlessPattern, ...] = ()
    changed: tuple[ChangedPattern, ...] = ()
    cut: Annotated[tuple[str, ...], Field(description="Patterns behind the last one that the browser takes.")] = ()
    file: PolicyFile
