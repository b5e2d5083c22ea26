"""Enrolment codes and invitations."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request
from starlette.concurrency import run_in_threadpool

from portero.core.nouns.enrolment import EnrolmentCode, EnrolmentCodeSummary, Invitations, Invited, NewEnrolmentCode
from portero.core.nouns.page import Page
from portero.service.auditing import audited_router
from portero.service.problems import Refusal
from portero.service.routes.common import Cursor, Keeper, Limit, Signed, TheKeepers
from portero.store import enrolment_codes

router = audited_router("enrolment")


@router.get("/enrolment-codes", summary="List enrolment codes", operation_id="listEnrolmentCodes")
def list_enrolment_codes(
    _who: Signed, keepers: TheKeepers, cursor: Cursor = None, limit: Limit = 100
) -> Page[EnrolmentCodeSummary]:
    """Codes, newest first, without the codes themselves."""
    with keepers.store.reading() as connection:
        found = enrolment_codes.list_enrolment_codes(connection, cursor, limit)
    items = [enrolment_codes.code_of(row, keepers.now()) for row in found.rows]
    return Page(items=items, next=found.next, total=found.total)


@router.post("/enrolment-codes", summary="Make an enrolment code", operation_id="createEnrolmentCode", status_code=201)
def create_enrolment_code(body: NewEnrolmentCode, who: Keeper, keepers: TheKeepers) -> EnrolmentCode:
    """Make a code by which devices join. It is shown this once and kept only as a hash."""
    return keepers.enrolment.make_code(body, who.name)


@router.delete(
    "/enrolment-codes/{id}", summary="Revoke an enrolment code", operation_id="revokeEnrolmentCode", status_code=204
)
def revoke_enrolment_code(id: str, _who: Keeper, keepers: TheKeepers) -> None:
    """Take a code back; nothing joins with it any more. Devices that did stay."""
    with keepers.store.writing() as connection:
        if not enrolment_codes.revoke_enrolment_code(connection, id, keepers.now()):
            raise Refusal("not-found", f"There is no enrolment code of id “{id[:40]}”.")
    keepers.live.tell("device")


@router.post("/invitations", summary="Invite or record machines", operation_id="invite", status_code=201)
def invite(body: Invitations, who: Keeper, keepers: TheKeepers) -> Invited:
    """Make machines known before they join, each with a code of its own; all of them or none.

    Without codes they are only recorded, as uncovered: machines that no endpoint runs on.
    """
    return keepers.enrolment.invite(body, who.name)


@router.post(
    "/invitations/csv",
    summary="Invite or record machines from CSV",
    operation_id="inviteFromCsv",
    status_code=201,
    openapi_extra={"requestBody": {"required": True, "content": {"text/csv": {"schema": {"type": "string"}}}}},
)
async def invite_from_csv(
    request: Request,
    who: Keeper,
    keepers: TheKeepers,
    hours: Annotated[int, Query(ge=1, le=24 * 90)] = 24 * 14,
    codes: Annotated[bool, Query(description="Without codes the machines are only recorded.")] = True,
) -> Invited:
    """The same from a list: hostname, kind, unit, serial, os.family, os.version, labels.NAME. Bad lines are told one
    by one, with their number, and then none is taken.
    """
    data = await request.body()
    return await run_in_threadpool(keepers.enrolment.invite_list, data, hours, codes, who.name)
