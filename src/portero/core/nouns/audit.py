"""The audit trail: what administrators did, and what was done about them."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from portero.core.nouns.base import Noun, Timestamp

Outcome = Literal["done", "refused"]


class AuditEntry(Noun):
    """One act. `digest` is the SHA-256 of all the rest, `previous` that of the entry before: none can be changed or
    left out without it showing in all that follow.
    """

    number: Annotated[int, Field(description="Counts up by one, from 1.")]
    at: Timestamp
    by: Annotated[str | None, Field(description="The administrator; None where nobody had signed in.")] = None
    role: Annotated[str | None, Field(description="The role that counted.")] = None
    means: Annotated[
        Literal["session", "token", "machine"] | None,
        Field(description="By what they were known; “machine” is a command at the service's own machine."),
    ] = None
    means_id: Annotated[str | None, Field(description="The session's or token's id; a user of the machine.")] = None
    address: Annotated[str | None, Field(description="From where.")] = None
    act: Annotated[str, Field(description="The call of the API by its operationId, such as `createToken`.")]
    about: Annotated[str | None, Field(description="What it was about: the path of the call.")] = None
    outcome: Outcome = "done"
    detail: str | None = None
    reason: str | None = None
    previous: Annotated[str | None, Field(description="Digest of the entry before; None for the first.")] = None
    digest: str
