"""The policy file that an endpoint keeps for a browser, as it finds it on its machine."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field, StringConstraints

from portero.core.nouns.base import Noun, Text, Timestamp

FilePath = Annotated[str, StringConstraints(min_length=1, max_length=1024)]


class PolicyFileState(StrEnum):
    """How a policy file stands."""

    KEPT = "kept"
    """As the endpoint wrote it."""
    CONTESTED = "contested"
    """Something else keeps writing it; the endpoint leaves it for a while between its own attempts."""
    FOREIGN = "foreign"
    """There was one before, which the endpoint did not write and does not touch."""
    UNWRITTEN = "unwritten"
    """It cannot be written."""


class TamperingKind(StrEnum):
    """What was done to a policy file."""

    EDITED = "edited"
    REMOVED = "removed"
    CLOSED = "closed"
    """Nobody but its owner could read it any more, or others could write it."""


class Tampering(Noun):
    """Somebody was at a policy file."""

    at: Annotated[Timestamp, Field(description="When the endpoint noticed.")]
    what: TamperingKind


class Governor(StrEnum):
    """Whose list of sites a browser goes by."""

    PORTERO = "portero"
    OTHERS = "others"
    NOBODY = "nobody"


class BrowserPolicy(Noun):
    """The policy file of a browser on a machine."""

    file: Annotated[FilePath, Field(description="Where the endpoint writes it.")]
    state: PolicyFileState
    problem: Annotated[Text | None, Field(description="Why it could not be written.")] = None
    digest: Annotated[
        str | None, Field(max_length=80, description="SHA-256 of the file that the browser was given; None: of none.")
    ] = None
    written_at: Timestamp | None = None
    restart_needed: Annotated[
        bool, Field(description="A browser runs that started before it was written, and has not read it.")
    ] = False
    overridden_by: Annotated[
        tuple[FilePath, ...], Field(max_length=20, description="Files of others that count before it, for its keys.")
    ] = ()
    beside: Annotated[
        tuple[FilePath, ...], Field(max_length=20, description="Files of others that set its keys and do not count.")
    ] = ()
    tampering: Annotated[
        Tampering | None, Field(description="The last time that somebody was at it, for a day; it was put right.")
    ] = None


class BrowserStanding(Noun):
    """A browser of a machine, and who governs it."""

    name: str
    version: str | None = None
    governed_by: Governor
    sentence: str
    newest: Annotated[
        bool | None, Field(description="Whether it was given the newest list; None where that is not known.")
    ] = None
    policy: BrowserPolicy | None = None
