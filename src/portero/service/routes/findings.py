"""What is to be settled: findings, their remedies, and what somebody has accepted for a while."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from portero.core.insight.findings import apply_remedy
from portero.core.nouns.base import unknown_word
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import (
    SEVERITIES,
    ChosenRemedy,
    DeviceName,
    Finding,
    FindingKind,
    Findings,
    NewAcceptance,
    Severity,
)
from portero.core.nouns.page import Page
from portero.service.auditing import audited_router
from portero.service.findings import no_finding
from portero.service.problems import Refusal
from portero.service.routes.common import (
    PREVIEWS,
    Author,
    Authoring,
    Cursor,
    Limit,
    Signed,
    TheKeepers,
    answered,
    offset_page,
)
from portero.service.state import Snapshot
from portero.store.moments import moment

router = audited_router("findings")
LISTED_RULES = 5
"""So many of a finding's rules are told in lists; a finding alone tells all that it has."""


@router.get("/findings", summary="List findings", operation_id="listFindings")
def list_findings(
    _who: Signed,
    keepers: TheKeepers,
    kind: FindingKind | None = None,
    severity: Annotated[Severity | None, Query(description="Of this severity or a higher one.")] = None,
    accepted: Annotated[
        bool | None, Query(description="Only those that are accepted, or only those that are not.")
    ] = None,
    group: Annotated[str | None, Query(max_length=64)] = None,
    ruleset: Annotated[str | None, Query(max_length=64)] = None,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Findings:
    """What is to be settled, the most urgent first, each with its first five rules. The counts are those of the whole
    estate.
    """
    found = keepers.findings.all()
    least = len(SEVERITIES) if severity is None else SEVERITIES.index(severity)
    items = [
        item
        for item in found.items
        if (kind is None or item.kind is kind)
        and SEVERITIES.index(item.severity) <= least
        and (accepted is None or accepted != item.is_open)
        and (group is None or group in item.groups)
        and (ruleset is None or ruleset in item.rulesets)
    ]
    page = offset_page(items, cursor, limit)
    shown = tuple(item.model_copy(update={"rules": item.rules[:LISTED_RULES]}) for item in page.items)
    return found.model_copy(update={"items": shown, "next": page.next, "total": page.total})


@router.get("/findings/{id}", summary="Show a finding", operation_id="getFinding")
def get_finding(id: str, _who: Signed, keepers: TheKeepers) -> Finding:
    """One finding."""
    return keepers.findings.get(id)


@router.get("/findings/{id}/devices", summary="Machines of a finding", operation_id="listFindingDevices")
def list_finding_devices(
    id: str, _who: Signed, keepers: TheKeepers, cursor: Cursor = None, limit: Limit = 200
) -> Page[DeviceName]:
    """All machines that a finding is about, by hostname."""
    found = keepers.findings.with_devices()
    if id not in found.devices:
        raise no_finding(id)
    named = sorted((member.facts.hostname, member.id) for member in found.devices[id])
    page = offset_page(named, cursor, limit)
    return Page(items=[DeviceName(id=own, hostname=name) for name, own in page.items], next=page.next, total=page.total)


@router.put("/findings/{id}/acceptance", summary="Accept a finding", operation_id="acceptFinding")
def accept_finding(id: str, body: NewAcceptance, who: Author, keepers: TheKeepers) -> Finding:
    """Say why a finding may stay as it is, and until when. It then counts as settled; nothing else changes."""
    return keepers.findings.accept(id, body, who.name)


@router.delete(
    "/findings/{id}/acceptance", summary="Take an acceptance back", operation_id="reopenFinding", status_code=204
)
def reopen_finding(id: str, _who: Author, keepers: TheKeepers) -> None:
    """Open a finding again that somebody has accepted."""
    keepers.findings.reopen(id)


@router.post(
    "/findings/{id}/remedy",
    summary="Take a remedy",
    operation_id="takeRemedy",
    status_code=204,
    response_model=None,
    responses=PREVIEWS,
)
def take_remedy(id: str, body: ChosenRemedy, change: Authoring) -> None:
    """Make the change that settles a finding. With `preview`, what that would do."""
    found = change.keepers.findings.get(id)
    keys = [remedy.key for remedy in found.remedies]
    if body.remedy not in keys:
        raise Refusal(
            "invalid", unknown_word("remedy", body.remedy, keys) + f"; this finding has {', '.join(keys) or 'none'}"
        )

    def edit(snapshot: Snapshot) -> Estate:
        return apply_remedy(snapshot.estate, found, body.remedy, moment(change.keepers.now()))

    return answered(change(edit, reason=f"Remedy of {found.id}: {body.remedy}"), lambda _snapshot: None)
