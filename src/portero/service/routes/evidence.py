"""Evidence: signed documents of runs, for auditors."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Query, Response

from portero.core.nouns.evidence import Evidence, EvidenceSummary, NeverObserved
from portero.core.nouns.page import Page
from portero.formats.evidence import evidence_page, page_policy
from portero.service.auditing import audited_router
from portero.service.routes.common import Cursor, Limit, Responder, Signed, TheKeepers, gives

router = audited_router("verification")
Number = Annotated[int, Path(ge=1, le=2**53)]


@router.post("/runs/{id}/evidence", summary="Make evidence", operation_id="createEvidence", status_code=201)
def create_evidence(id: Number, who: Responder, keepers: TheKeepers, response: Response) -> EvidenceSummary:
    """Sign a run that has ended: what was tried, what came of it, the machines, what each saw, what was not reached."""
    made = keepers.evidence.create(id, who.name)
    response.headers["Location"] = f"/api/v1/evidence/{made.id}"
    return made


@router.get("/evidence", summary="List evidence", operation_id="listEvidence")
def list_evidence(_who: Signed, keepers: TheKeepers, cursor: Cursor = None, limit: Limit = 50) -> Page[EvidenceSummary]:
    """The evidence that is kept, the newest first."""
    return keepers.evidence.page(cursor, limit)


@router.get(
    "/evidence/key",
    summary="The key that evidence is signed by",
    operation_id="getEvidenceKey",
    response_class=Response,
    responses=gives("application/x-pem-file"),
)
def get_key(_who: Signed, keepers: TheKeepers) -> Response:
    """The public key as PEM: keep it where evidence is checked."""
    return Response(keepers.evidence.public_key, media_type="application/x-pem-file")


@router.get("/evidence/never-observed", summary="Machines never observed", operation_id="listNeverObserved")
def list_never_observed(
    _who: Signed,
    keepers: TheKeepers,
    after: Annotated[str, Query(max_length=253, description="`next` of the page before.")] = "",
    limit: Limit = 100,
) -> NeverObserved:
    """How many machines have really tried some probe, and which never have."""
    return keepers.evidence.never_observed(after, limit)


@router.get("/evidence/{id}", summary="Show evidence", operation_id="getEvidence")
def get_evidence(id: Number, _who: Signed, keepers: TheKeepers) -> Evidence:
    """What a signed document says."""
    return keepers.evidence.opened(id)


@router.get(
    "/evidence/{id}/file",
    summary="The signed file",
    operation_id="getEvidenceFile",
    response_class=Response,
    responses=gives("application/jose"),
)
def get_file(id: Number, _who: Signed, keepers: TheKeepers) -> Response:
    """The signed document itself, a compact JWS: `portero evidence verify` checks it with no service."""
    headers = {"Content-Disposition": f'attachment; filename="evidence-{id}.jws"'}
    return Response(keepers.evidence.file(id), media_type="application/jose", headers=headers)


@router.get(
    "/evidence/{id}/page",
    summary="Evidence to be read",
    operation_id="getEvidencePage",
    response_class=Response,
    responses=gives("text/html"),
)
def get_page(id: Number, _who: Signed, keepers: TheKeepers) -> Response:
    """The page that is made of it, to be read and printed."""
    headers = {"Content-Security-Policy": page_policy()}
    page = evidence_page(keepers.evidence.opened(id))
    return Response(page, media_type="text/html; charset=utf-8", headers=headers)
