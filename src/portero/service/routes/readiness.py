"""How the fleet's layers stand."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from portero.core.nouns.readiness import FleetReadiness, UnitReadiness
from portero.service import readiness
from portero.service.auditing import audited_router
from portero.service.routes.common import Signed, TheKeepers, refuse_unknown_group

router = audited_router("fleet")
_Text = Annotated[str | None, Query(max_length=255)]
_Unit = Annotated[str | None, Query(max_length=255, description="The unit and all below it.")]


@router.get("/readiness", summary="Readiness, counted", operation_id="getReadiness")
def get_readiness(_who: Signed, keepers: TheKeepers, unit: _Unit = None, group: _Text = None) -> FleetReadiness:
    """How many devices really enforce each layer, and what keeps the others from it; of all, a unit, or a group."""
    estate = keepers.estate.snapshot.estate
    if group is not None:
        refuse_unknown_group(estate, group)
    return readiness.fleet_readiness(keepers.store, estate, keepers.now(), unit, group)


@router.get("/readiness/units", summary="Readiness by unit", operation_id="getUnitReadiness")
def get_unit_readiness(_who: Signed, keepers: TheKeepers, below: _Text = None) -> list[UnitReadiness]:
    """How each unit right below another one stands; the topmost ones where none is named."""
    return readiness.unit_readiness(keepers.store, keepers.estate.snapshot.estate, keepers.now(), below)
