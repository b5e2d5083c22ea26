"""Pushes, and the receipts of machines."""

from __future__ import annotations

from portero.core import sentences, wording
from portero.core.nouns.device import Device, Lifecycle
from portero.core.nouns.page import Page
from portero.core.nouns.push import NewPush, Push, Receipt, ReceiptState
from portero.service.auditing import audited_router
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.common import Cursor, Limit, Responder, Signed, TheKeepers, refuse_unknown_group
from portero.store import device_lists
from portero.store.device_lists import DeviceFilter

router = audited_router("fleet")
_NOBODY = "There is no machine to be told: none of those that are meant has joined."
_NOBODY_WAITS = "No machine waits: each that has joined holds what it should."


@router.post("/pushes", summary="Push", operation_id="createPush", status_code=201)
def create_push(body: NewPush, who: Responder, keepers: TheKeepers) -> Push:
    """Tell machines now to ask for what is new, instead of waiting for them. One that cannot be reached is told when it
    comes. Each has a receipt.
    """
    named = [enrolled(keepers, name) for name in body.devices]
    ids = dict.fromkeys(device.id for device in named)
    if body.group is not None:
        refuse_unknown_group(keepers.estate.snapshot.estate, body.group)
    with keepers.store.reading() as connection:
        now = keepers.now()
        if body.group is not None:
            ids |= dict.fromkeys(device_lists.enrolled(connection, DeviceFilter(group=body.group), now))
        if body.waiting:
            ids |= dict.fromkeys(device_lists.enrolled(connection, DeviceFilter(), now, behind=True))
    asks_waiting_alone = not body.devices and body.group is None
    if not ids:
        raise Refusal("invalid", _NOBODY_WAITS if asks_waiting_alone else _NOBODY)
    scope = sentences.push_scope(
        [device.hostname for device in named], [body.group] if body.group else [], body.waiting
    )
    return keepers.pushes.push(list(ids), scope, who.name, body.reason)


def enrolled(keepers: Keepers, name: str) -> Device:
    """A machine that can be told. Refusal."""
    device = keepers.fleet.device(name)
    if device.lifecycle in (Lifecycle.INVITED, Lifecycle.RETIRED):
        has = "has never joined" if device.lifecycle is Lifecycle.INVITED else "is retired"
        raise Refusal("invalid", wording.as_sentence(f"the machine {device.hostname} {has}, so it cannot be told"))
    return device


@router.get("/pushes", summary="List pushes", operation_id="listPushes")
def list_pushes(_who: Signed, keepers: TheKeepers) -> list[Push]:
    """The last pushes, the newest first."""
    return keepers.pushes.list()


@router.get("/pushes/{push}", summary="Show a push", operation_id="getPush")
def get_push(push: str, _who: Signed, keepers: TheKeepers) -> Push:
    """A push, and how many machines are how far with it."""
    return keepers.pushes.get(push)


@router.get("/pushes/{push}/receipts", summary="List receipts", operation_id="listReceipts")
def list_receipts(
    push: str,
    _who: Signed,
    keepers: TheKeepers,
    state: ReceiptState | None = None,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Page[Receipt]:
    """How far each machine is with a push, by hostname: when it was told, fetched and applied it, or why not, and when
    it was last heard of and is expected next.
    """
    return keepers.pushes.receipts(push, state, cursor, limit)
