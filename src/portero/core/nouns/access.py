"""Who is signed in, and the API tokens by which programs are."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import ConfigDict, Field

from portero.core.nouns.base import Name, Noun, Timestamp

Role = Literal["reader", "responder", "author", "keeper"]
"""From the least to the most; each may what those before it may."""


class SignIn(Noun):
    """A name and its password."""

    name: Annotated[str, Field(min_length=1, max_length=120)]
    password: Annotated[str, Field(min_length=1, max_length=1000)]

    model_config = ConfigDict(
        frozen=True,
        extra="forbid",
        json_schema_extra={"examples": [{"name": "it-desk", "password": "correct horse battery"}]},
    )


class Session(Noun):
    """Who is signed in. Browsers send `csrf_token` back as X-CSRF-Token with every change."""

    name: str
    role: Role
    csrf_token: str | None = None


class NewToken(Noun):
    """What an API token is for, and how much it may."""

    label: Name
    role: Role | None = Field(None, description="At most your own role, which it is where left out.")
    days: Annotated[int, Field(ge=1, le=3650)] | None = Field(None, description="After how many days it ends.")


class Token(Noun):
    """An API token without its secret."""

    id: str
    label: str
    role: Role
    made_at: Timestamp
    expires_at: Timestamp | None


class MadeToken(Token):
    """A token just made. The secret is shown this once."""

    secret: str
