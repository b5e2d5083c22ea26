"""Administrators."""

from __future__ import annotations

from portero.client.connection import Part, segment
from portero.core.nouns.administrator import (
    Administrator,
    AdministratorChange,
    MadeAdministrator,
    NewAdministrator,
)


class Administrators(Part):
    """Who may use the service. Changed by keepers, within `access.session` only."""

    def list(self) -> list[Administrator]:
        """All of them by name."""
        return self.connection.get_list("/administrators", Administrator)

    def get(self, name: str) -> Administrator:
        """One of them. NotFound."""
        return self.connection.get(f"/administrators/{segment(name)}", Administrator)

    def add(self, new: NewAdministrator) -> MadeAdministrator:
        """One more; the first password is shown this once. AlreadyExists, NotAllowed."""
        return self.connection.post("/administrators", new, MadeAdministrator)

    def change(self, seen: Administrator, said: AdministratorChange) -> Administrator:
        """What is said of one from now on. ChangedMeanwhile where that one is not any more as it was seen; StillInUse
        for the last keeper; NotAllowed.
        """
        headers = {"If-Match": f'"a{seen.version}"'}
        path, body = f"/administrators/{segment(seen.name)}", said.model_dump(mode="json")
        return Administrator.model_validate_json(self.connection.ask("PUT", path, json=body, headers=headers).content)

    def reset(self, name: str) -> MadeAdministrator:
        """A first password again; their sessions end, their tokens stay. NotFound, NotAllowed."""
        return self.connection.post(f"/administrators/{segment(name)}/reset", {}, MadeAdministrator)

    def remove(self, name: str) -> None:
        """One less, with sessions and tokens. NotFound, StillInUse for the last keeper, NotAllowed."""
        self.connection.ask("DELETE", f"/administrators/{segment(name)}")
