"""Devices, enrolment codes and the roll-out."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import APIRouter, Query

from portero.core.nouns.device import Device, Kind
from portero.core.nouns.enrolment import EnrolmentCode, NewEnrolmentCode
from portero.core.nouns.page import Page
from portero.core.nouns.revision import RolloutCounts
from portero.core.nouns.verdict import Blocks
from portero.service import secrets
from portero.service.routes.common import Cursor, Keeper, Limit, Signed, TheDesk
from portero.store import devices
from portero.store.devices import DeviceFilter
from portero.store.estates import moment

router = APIRouter(tags=["fleet"])
State = Literal["current", "waiting", "failed", "silent"]
_Text = Annotated[str | None, Query(max_length=255)]


@router.get("/devices", summary="List devices", operation_id="listDevices")
def list_devices(
    _who: Signed,
    desk: TheDesk,
    search: Annotated[str | None, Query(max_length=255, description="Part of the hostname or of the unit.")] = None,
    unit: Annotated[str | None, Query(max_length=255, description="The unit and all below it.")] = None,
    kind: Kind | None = None,
    group: _Text = None,
    lifecycle: Literal["enrolled", "silent"] | None = None,
    rollout: State | None = None,
    sort: Literal["hostname", "kind", "unit", "last_heard"] = "hostname",
    descending: bool = False,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Page[Device]:
    """Devices with their facts, groups and roll-out state."""
    wanted = DeviceFilter(search, unit, kind.value if kind else None, group, lifecycle, rollout)
    now = desk.now()
    with desk.store.reading() as connection:
        found = devices.list_devices(
            connection, wanted, now, sort=sort, descending=descending, cursor=cursor, limit=limit
        )
    items = [devices.device_of(row, now) for row in found.rows]
    return Page(items=items, next=found.next, total=found.total)


@router.get("/devices/{device}", summary="Show a device", operation_id="getDevice")
def get_device(device: str, _who: Signed, desk: TheDesk) -> Device:
    """One device, by its id or by its hostname where only one has it."""
    return desk.device(device)


@router.get("/devices/{device}/blocks", summary="What a device blocks", operation_id="getBlocks")
def get_blocks(device: str, _who: Signed, desk: TheDesk) -> Blocks:
    """Each web category that some rule names for the device: intended beside effective, gaps first."""
    return desk.blocks(desk.device(device))


@router.get("/rollout", summary="Roll-out, counted", operation_id="getRollout")
def get_rollout(_who: Signed, desk: TheDesk) -> RolloutCounts:
    """How many devices hold the newest bundle, wait for it, failed to apply it, or are silent."""
    with desk.store.reading() as connection:
        return devices.rollout_counts(connection, desk.now())


@router.post("/enrolment-codes", summary="Make an enrolment code", operation_id="createEnrolmentCode", status_code=201)
def create_enrolment_code(body: NewEnrolmentCode, who: Keeper, desk: TheDesk) -> EnrolmentCode:
    """Make a code by which devices join. It is shown this once and kept only as a hash."""
    code, now = secrets.new_code(), desk.now()
    expires = now + body.hours * 3600
    with desk.store.writing() as connection:
        devices.add_enrolment_code(
            connection, secrets.hash_secret(code), body.labels, body.uses, expires, who.name, now
        )
    return EnrolmentCode.model_validate({"code": code, "uses": body.uses, "expires_at": moment(expires)})
