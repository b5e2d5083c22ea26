"""One attempt in several places side by side."""

from __future__ import annotations

from datetime import datetime

from portero.client.connection import Part
from portero.core.nouns.base import rfc3339
from portero.core.nouns.compared import (
    AttemptAnywhere,
    EarlierCompared,
    FleetVerdicts,
    MachinesCompared,
    MachinesOfPerson,
)


class ComparedPart(Part):
    """What becomes of one attempt in several places."""

    def groups(self, tried: AttemptAnywhere) -> FleetVerdicts:
        """What all machines would do, group by group. Invalid for the URL."""
        return self.connection.consult("/compare/groups", tried, FleetVerdicts)

    def machines(self, tried: AttemptAnywhere, first: str, second: str) -> MachinesCompared:
        """What two machines would do, and what of their differences decides. NotFound, Invalid."""
        return self.connection.consult("/compare/machines", tried, MachinesCompared, first=first, second=second)

    def person(self, tried: AttemptAnywhere) -> MachinesOfPerson:
        """What the machines on which `tried.user` is signed in would do. Invalid."""
        return self.connection.consult("/compare/person", tried, MachinesOfPerson)

    def earlier(
        self, tried: AttemptAnywhere, device: str, *, then: datetime | None = None, revision: int | None = None
    ) -> EarlierCompared:
        """What a machine does about it now, and would have at a moment, with the revision and the facts of then; or by
        an earlier revision, as it is now. NotFound, Invalid.
        """
        moment = rfc3339(then) if then is not None else None
        return self.connection.consult(
            "/compare/earlier", tried, EarlierCompared, device=device, then=moment, revision=revision
        )
