"""Why something is, or is not, stopped on a machine, and the changes that mend it."""

from __future__ import annotations

from portero.core.nouns.estate import Estate
from portero.core.nouns.why import Why, WhyQuestion, WhyRemedy
from portero.service.auditing import asks, audited_router
from portero.service.routes.checks import as_meant, as_written
from portero.service.routes.common import PREVIEWS, Authoring, Signed, TheKeepers, answered
from portero.service.state import Snapshot

router = audited_router("check")


@router.post("/why", summary="Ask why", operation_id="askWhy")
@asks
def ask_why(body: WhyQuestion, who: Signed, keepers: TheKeepers) -> Why:
    """Why an attempt does, or does not, come to what was expected: every cause in the order in which to rule them out,
    each with its proof and its next step, and which of them is the cause.
    """
    meant = body.model_copy(update={"attempt": as_meant(who, keepers, body.attempt)})
    told = keepers.whys.why(meant)
    return told.model_copy(update={"explanation": as_written(told.explanation, body.attempt)})


@router.post(
    "/why/remedy",
    summary="Mend a cause",
    operation_id="takeWhyRemedy",
    status_code=204,
    response_model=None,
    responses=PREVIEWS,
)
def take_remedy(body: WhyRemedy, change: Authoring) -> None:
    """Make the change that mends a cause. With `preview`, what that would do."""
    keepers = change.keepers
    meant = body.model_copy(update={"attempt": as_meant(change.who, keepers, body.attempt)})

    def edit(snapshot: Snapshot) -> Estate:
        after = keepers.whys.mended(meant, snapshot.estate)
        change.refuse_guarded(snapshot.estate, after, "this remedy")
        return after

    what = body.attempt.url or "a program"
    return answered(
        change(edit, reason=f"Remedy of {body.cause}: {what} on {body.attempt.device}"), lambda _snapshot: None
    )
