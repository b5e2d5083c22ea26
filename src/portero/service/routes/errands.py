"""Errands: what a machine is asked to do now, and what came of it."""

from __future__ import annotations

from portero.core.nouns.errand import Errand, NewErrand
from portero.service.auditing import audited_router
from portero.service.routes.common import Author, Signed, TheKeepers
from portero.service.routes.pushes import enrolled

router = audited_router("fleet")


@router.post("/devices/{device}/errands", summary="Have a page opened", operation_id="createErrand", status_code=201)
def create_errand(device: str, body: NewErrand, who: Author, keepers: TheKeepers) -> Errand:
    """Have a machine open a page in its own browser now, and tell which hosts the page needs. Ask for the errand again
    until it is answered; the live stream tells of it.
    """
    return keepers.errands.ask(enrolled(keepers, device), body, who.name)


@router.get("/errands/{errand}", summary="Show an errand", operation_id="getErrand")
def get_errand(errand: str, _who: Signed, keepers: TheKeepers) -> Errand:
    """An errand as far as it is. It is kept for some minutes."""
    return keepers.errands.get(errand)
