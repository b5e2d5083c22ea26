"""Administrators: who may sign in, how much they may, and what they may see."""

from __future__ import annotations

from typing import Annotated

from pydantic import AfterValidator, Field, StringConstraints

from portero.core.nouns.access import Role
from portero.core.nouns.base import Noun, Timestamp

LEAST_PASSWORD, MOST_PASSWORD = 15, 1000
"""Letters of a password: where nothing else is asked for, NIST SP 800-63B-4 wants 15."""


def _no_only_dots(value: str) -> str:
    if not value.strip("."):
        raise ValueError("a name of dots only cannot stand in an address")
    return value


AdministratorName = Annotated[
    str,
    StringConstraints(pattern=r"^[A-Za-z0-9._@-]{1,64}$", strip_whitespace=True, to_lower=True),
    AfterValidator(_no_only_dots),
    Field(description="Letters, digits and . _ @ -, without regard to case."),
]
Password = Annotated[str, StringConstraints(min_length=1, max_length=MOST_PASSWORD)]
Note = Annotated[str, StringConstraints(max_length=500)]


class AdministratorChange(Noun):
    """What a keeper says of an administrator."""

    role: Role = "reader"
    sees_names: Annotated[
        bool,
        Field(
            description="May see who people are, and the audit trail. Others see a pseudonym for each person, always"
            " the same one."
        ),
    ] = False
    probes_freely: Annotated[
        bool,
        Field(description="May have machines try any address, and take pictures; others run kept probe sets."),
    ] = False
    disabled: Annotated[bool, Field(description="May not sign in, and has no sessions and no tokens.")] = False
    note: Note | None = None


class NewAdministrator(AdministratorChange):
    """An administrator to be."""

    name: AdministratorName


class Administrator(AdministratorChange):
    """An administrator, as the service knows one."""

    name: str
    made_at: Timestamp | None = None
    last_seen: Annotated[Timestamp | None, Field(description="When a session or token of theirs was last used.")] = None
    last_from: Annotated[str | None, Field(description="The address that it was used from.")] = None
    first_password_until: Annotated[
        Timestamp | None,
        Field(
            description="Has a first password, made by the service, which has to be changed by then. None: their own."
        ),
    ] = None
    version: Annotated[int, Field(description="Counts changes to it; also its ETag.")] = 1


class MadeAdministrator(Administrator):
    """An administrator with a first password, which is shown this once."""

    first_password: str


class NewPassword(Noun):
    """One's own password, and the one that takes its place."""

    password: Password
    new_password: Password


class SetupState(Noun):
    """Whether there is no administrator yet."""

    needed: bool


class Setup(Noun):
    """The first administrator, made with the code that the service printed to its terminal."""

    code: Annotated[str, StringConstraints(max_length=40)]
    name: AdministratorName
    password: Password
