"""The short-lived, use-limited code by which a device joins, and invitations by the list."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from portero.core.nouns.base import Name, Noun, Timestamp
from portero.core.nouns.device import Labels, NewDevice

CODE_LETTERS = "ABCDEFGHJKMNPQRSTUVWXYZ23456789"
"""What enrolment codes are made of: without 0 O 1 I L, which people confuse."""


class NewEnrolmentCode(Noun):
    """How often and how long a code may be used, and the labels it puts on devices."""

    name: Annotated[Name | None, Field(description="What it is for, for people.")] = None
    uses: Annotated[int, Field(ge=1, le=100_000)] = 1
    hours: Annotated[int, Field(ge=1, le=24 * 90)] = 24
    labels: Labels = {}


class EnrolmentCodeSummary(Noun):
    """A code as lists show it: without the code itself, which is kept only as a hash."""

    id: str
    name: str | None
    labels: Labels = {}
    uses: int
    uses_left: int
    expires_at: Timestamp
    made_by: str
    made_at: Timestamp
    revoked_at: Timestamp | None = None
    device: Annotated[str | None, Field(description="Hostname of the one machine it invites; None for any.")] = None
    state: Annotated[str, Field(description="good, used up, ended or revoked")]


class EnrolmentCode(Noun):
    """A code just made; it is shown this once."""

    id: str
    code: str
    uses: int
    expires_at: Timestamp


class Invitations(Noun):
    """Machines to invite, each with a code of its own; all of them or none."""

    devices: Annotated[tuple[NewDevice, ...], Field(min_length=1, max_length=5000)]
    hours: Annotated[int, Field(ge=1, le=24 * 90)] = 24 * 14
    codes: Annotated[bool, Field(description="Without codes the machines are only recorded, as uncovered.")] = True


class Invitation(Noun):
    """One machine's code; it is shown this once."""

    hostname: str
    device: str
    code: str | None
    expires_at: Timestamp | None


class Invited(Noun):
    """The invitations just made, in the order of the list."""

    invitations: tuple[Invitation, ...]
