"""Who is signed in, and the API tokens by which programs are."""

from __future__ import annotations

from typing import Annotated, Literal, get_args

from pydantic import ConfigDict, Field

from portero.core.nouns.base import Name, Noun, Timestamp

Role = Literal["reader", "responder", "author", "keeper"]
"""From the least to the most; each may what those before it may."""
ROLES: tuple[Role, ...] = get_args(Role)


def lesser(one: Role, other: Role) -> Role:
    """The one of two roles that may less."""
    return min(one, other, key=ROLES.index)


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
    sees_names: Annotated[bool, Field(description="May see who people are; others see pseudonyms.")] = False
    probes_freely: Annotated[bool, Field(description="May have machines try any address, and take pictures.")] = False
    has_first_password: Annotated[
        bool, Field(description="Signed in with a first password: nothing is done before it is changed.")
    ] = False
    keepers: Annotated[tuple[str, ...], Field(description="Who can give another role.")] = ()


class Used(Noun):
    """What sessions and tokens have in common: whose, how much they may, until when, and where last used."""

    id: str
    administrator: str
    role: Role
    made_at: Timestamp | None
    expires_at: Timestamp
    last_used: Annotated[Timestamp | None, Field(description="None where it never was, or not since the upgrade.")] = (
        None
    )
    last_from: Annotated[str | None, Field(description="The address that it was last used from.")] = None


class SessionState(Used):
    """A browser session, as it is listed."""


MOST_DAYS = 365
"""The longest that a token lasts."""


class NewToken(Noun):
    """What an API token is for, and how much it may. One that is made with a token may less than that one, and ends no
    later.
    """

    label: Name
    role: Role | None = Field(None, description="At most your own role, which it is where left out.")
    days: Annotated[int, Field(ge=1, le=MOST_DAYS)] = Field(30, description="After how many days it ends.")


class Token(Used):
    """An API token without its secret."""

    label: str
    made_by: Annotated[str | None, Field(description="The token that made it; None for a session.")] = None


class MadeToken(Token):
    """A token just made. The secret is shown this once."""

    secret: str
