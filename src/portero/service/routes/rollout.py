"""How far devices are with their newest bundles."""

from __future__ import annotations

from portero.core.nouns.rollout import RolloutCounts
from portero.service.auditing import audited_router
from portero.service.routes.common import Signed, TheKeepers
from portero.service.routes.devices import Wanted
from portero.store import device_lists

router = audited_router("fleet")


@router.get("/rollout", summary="Roll-out, counted", operation_id="getRollout")
def get_rollout(_who: Signed, keepers: TheKeepers, wanted: Wanted) -> RolloutCounts:
    """How many of the devices asked for hold the newest bundle, wait for it, failed to apply it, or are silent."""
    with keepers.store.reading() as connection:
        return device_lists.rollout_counts(connection, keepers.now(), wanted)
