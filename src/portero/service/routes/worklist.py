"""What needs a decision."""

from __future__ import annotations

from portero.core.nouns.worklist import Worklist
from portero.service.auditing import audited_router
from portero.service.routes.common import Signed, TheKeepers
from portero.service.worklist import worklist

router = audited_router()


@router.get("/worklist", summary="What needs a decision", operation_id="getWorklist", tags=["findings"])
def get_worklist(_who: Signed, keepers: TheKeepers) -> Worklist:
    """Gaps, findings, endings of this week and stragglers, most urgent first, each with its one next step."""
    snapshot = keepers.estate.snapshot
    found, epoch = keepers.findings.all(), keepers.fleet.epoch()
    return worklist(keepers.store, snapshot.estate, found, epoch, keepers.now())
