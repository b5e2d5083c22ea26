"""How the fleet's layers stand."""

from __future__ import annotations

from portero.client.connection import Part
from portero.core.nouns.readiness import FleetReadiness, UnitReadiness


class ReadinessPart(Part):
    """How the fleet's layers stand."""

    def fleet(self, *, unit: str | None = None, group: str | None = None) -> FleetReadiness:
        """How many devices really enforce each layer, and what keeps the others from it."""
        return self.connection.get("/readiness", FleetReadiness, unit=unit, group=group)

    def units(self, below: str | None = None) -> list[UnitReadiness]:
        """How each unit right below another one stands."""
        return self.connection.get_list("/readiness/units", UnitReadiness, below=below)
