"""One attempt in several places side by side."""

from __future__ import annotations

from portero.client.connection import Part
from portero.core.nouns.compared import (
    AttemptAnywhere,
    FleetVerdicts,
    MachinesCompared,
    MachinesOfPerson,
    RevisionsCompared,
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

    def revision(self, tried: AttemptAnywhere, device: str, revision: int) -> RevisionsCompared:
        """What is meant on a machine now and was at an earlier revision. NotFound, Invalid."""
        return self.connection.consult("/compare/revision", tried, RevisionsCompared, device=device, revision=revision)
