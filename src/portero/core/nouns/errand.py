"""What a machine is asked to do now, and to tell what came of it: open a page, and say which hosts it needs."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field, StringConstraints

from portero.core.nouns.attempt import Url
from portero.core.nouns.base import Noun, Text, Timestamp
from portero.core.nouns.coverage import BrowserFamily
from portero.core.nouns.urls import WebSite

MOST_HOSTS = 300
Problem = Annotated[str, StringConstraints(min_length=1, max_length=500)]


class PageUse(StrEnum):
    """What a page has of a host. Site lists stop the first two only; the filter stops any."""

    PAGE = "page"
    """The page itself, or a step on the way to it."""
    FRAME = "frame"
    """A page within the page."""
    SCRIPT = "script"
    STYLE = "style"
    FONT = "font"
    IMAGE = "image"
    OTHER = "other"


class PageHost(Noun):
    """A host from which something was asked for as a page was opened."""

    host: WebSite
    uses: Annotated[tuple[PageUse, ...], Field(min_length=1, max_length=len(PageUse))]
    requests: Annotated[int, Field(ge=1, le=1_000_000)]


class OpenedPage(Noun):
    """What became of a page that a machine opened in its browser, without a site list in its way where it may do so."""

    browser: Text
    version: Text | None = None
    at_url: Annotated[Url | None, Field(description="Where it ended; None where the browser shows no page.")] = None
    title: Annotated[str | None, StringConstraints(max_length=300)] = None
    outcome: Annotated[str, StringConstraints(max_length=20), Field(description="opened, stopped, warned, unanswered")]
    hosts: Annotated[tuple[PageHost, ...], Field(max_length=MOST_HOSTS)] = ()


class ErrandAnswer(Noun):
    """What a device tells of an errand: a page, or why there is none."""

    page: OpenedPage | None = None
    problem: Problem | None = None


class NewErrand(Noun):
    """A page that a machine is to open now."""

    url: Url
    browser: Annotated[BrowserFamily | None, Field(description="The family; else the first that the machine has.")] = (
        None
    )


class ErrandState(StrEnum):
    """How far an errand is."""

    WAITING = "waiting"
    """The machine has not taken it yet."""
    TAKEN = "taken"
    ANSWERED = "answered"
    FAILED = "failed"
    """The machine has said why it could not, or its time has run out."""


class Errand(NewErrand):
    """An errand, and what came of it. Errands are kept for some minutes, and not over a restart of the service."""

    id: str
    device: str
    hostname: str
    by: str
    at: Timestamp
    until: Annotated[Timestamp, Field(description="Then it is given up.")]
    state: ErrandState
    page: OpenedPage | None = None
    problem: str | None = None
