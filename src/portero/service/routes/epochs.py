"""The service's epoch: whether machines are ahead of it, and another one begun."""

from __future__ import annotations

from portero.core.nouns.epoch import EpochState
from portero.service.auditing import audited_router
from portero.service.routes.common import Keeper, Signed, TheKeepers

router = audited_router("epoch")


@router.get("/epoch", summary="The service's epoch", operation_id="getEpoch")
def get_epoch(_who: Signed, keepers: TheKeepers) -> EpochState:
    """Which life of the service this is, and how many machines hold something newer than it has ever had."""
    return keepers.fleet.epoch()


@router.post("/epoch", summary="Begin another epoch", operation_id="beginEpoch", status_code=201)
def begin_epoch(_who: Keeper, keepers: TheKeepers) -> EpochState:
    """Sign all that machines should have for a later epoch: they take it whatever they hold. For a store whose files
    were copied back.
    """
    keepers.estate.begin_epoch()
    return keepers.fleet.epoch()
