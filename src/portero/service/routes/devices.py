"""Devices: lists, pages, labels, and what becomes of them."""

from __future__ import annotations

from typing import Annotated, Literal, get_args

from fastapi import Depends, Query, Response
from pydantic import ValidationError

from portero.core.nouns.device import Device, DeviceEvent, DeviceLabels, Kind
from portero.core.nouns.faults import fault_of
from portero.core.nouns.layer import LayerName
from portero.core.nouns.membership import Condition, MembershipRule, read_condition
from portero.core.nouns.page import Page
from portero.core.nouns.readiness import BlockerCode, Readiness
from portero.core.nouns.verdict import Blocks
from portero.service import readiness
from portero.service.auditing import audited_router
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.common import Author, Cursor, IfMatch, Keeper, Limit, Reason, Signed, TheKeepers, expect_tag
from portero.store import device_lists
from portero.store.access import Principal
from portero.store.device_lists import DeviceFilter

router = audited_router("fleet")
State = Literal["current", "waiting", "failed", "silent"]
Sort = Literal[
    "hostname", "kind", "unit", "os", "serial", "place", "zone", "filter", "browser", "startup", "lifecycle", "rollout",
    "joined", "last_heard",
]  # fmt: skip
assert set(get_args(Sort)) == set(device_lists.SORTS)
_Text = Annotated[str | None, Query(max_length=255)]
_Unit = Annotated[str | None, Query(max_length=255, description="The unit and all below it.")]


def _matching(keepers: Keepers, where: list[str]) -> frozenset[str] | None:
    """Ids of the devices of which all conditions are true; None where there is none."""
    if not where:
        return None
    conditions: list[Condition] = []
    for text in where:
        try:
            conditions.append(read_condition(text))
        except ValidationError as error:
            raise Refusal("invalid", f"where “{text[:80]}”: {fault_of(error.errors()[0])}.") from error
        except ValueError as error:
            raise Refusal("invalid", f"where: {error}.") from error
    return keepers.fleet.matching(MembershipRule(all=tuple(conditions)))


def _wanted(
    keepers: TheKeepers,
    search: Annotated[
        str | None, Query(max_length=255, description="Part of hostname, unit or serial; or an id.")
    ] = None,
    unit: _Unit = None,
    kind: Kind | None = None,
    group: _Text = None,
    lifecycle: Literal["invited", "enrolled", "silent", "retired"] | None = None,
    rollout: State | None = None,
    blocker: Annotated[BlockerCode | None, Query(description="Only machines with this in the way.")] = None,
    layer: Annotated[LayerName | None, Query(description="The layer that the blocker hinders.")] = None,
    where: Annotated[
        list[str],
        Query(max_length=20, description="Conditions that must all hold, as in “os.version below 12.4”."),
    ] = [],  # noqa: B006 (FastAPI copies it)
) -> DeviceFilter:
    return DeviceFilter(
        search,
        unit,
        kind.value if kind else None,
        group,
        lifecycle,
        rollout,
        blocker.value if blocker else None,
        layer,
        _matching(keepers, where),
    )


Wanted = Annotated[DeviceFilter, Depends(_wanted)]
"""Which devices are asked for."""


@router.get("/devices", summary="List devices", operation_id="listDevices")
def list_devices(
    who: Signed,
    keepers: TheKeepers,
    wanted: Wanted,
    sort: Sort = "hostname",
    descending: bool = False,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Page[Device]:
    """Devices with their facts, groups, roll-out state and blockers. Retired ones only where asked for."""
    now = keepers.now()
    with keepers.store.reading() as connection:
        found = device_lists.list_devices(
            connection, wanted, now, sort=sort, descending=descending, cursor=cursor, limit=limit
        )
        items = device_lists.devices_of(connection, found.rows, now)
    items = [_shown(keepers, item, who) for item in items]
    return Page(items=items, next=found.next, total=found.total)


def _shown(keepers: Keepers, device: Device, who: Principal) -> Device:
    """A device, with people as somebody may see them."""
    if who.sees_names or not device.facts.signed_in:
        return device
    people = tuple(keepers.pseudonyms.of(person) for person in device.facts.signed_in)
    return device.model_copy(update={"facts": device.facts.model_copy(update={"signed_in": people})})


def _etag(device: Device) -> str:
    """Administrators' changes to a device are no revisions, so it counts them by itself."""
    return f'"v{device.version}"'


def _tagged(response: Response, device: Device) -> Device:
    response.headers["ETag"] = _etag(device)
    return device


@router.get("/devices/{device}", summary="Show a device", operation_id="getDevice")
def get_device(device: str, response: Response, who: Signed, keepers: TheKeepers) -> Device:
    """One device, by its id or by its hostname where only one has it."""
    return _tagged(response, _shown(keepers, keepers.fleet.device(device), who))


@router.get("/devices/{device}/blocks", summary="What a device blocks", operation_id="getBlocks")
def get_blocks(device: str, _who: Signed, keepers: TheKeepers) -> Blocks:
    """Each web category, and all else, that some rule names for the device: intended beside effective, gaps first."""
    return keepers.checks.blocks(keepers.fleet.device(device))


@router.get("/devices/{device}/readiness", summary="Whether its layers work", operation_id="getDeviceReadiness")
def get_device_readiness(device: str, _who: Signed, keepers: TheKeepers) -> Readiness:
    """Each layer of the device, and all that stands in the way, in the order in which to mend it."""
    return readiness.readiness_of(keepers.estate.snapshot.estate, keepers.fleet.device(device))


@router.get("/devices/{device}/events", summary="What was done to a device", operation_id="listDeviceEvents")
def list_device_events(device: str, _who: Signed, keepers: TheKeepers) -> list[DeviceEvent]:
    """Joining, labels, retiring and the like, newest first."""
    found = keepers.fleet.device(device)
    with keepers.store.reading() as connection:
        return device_lists.list_events(connection, found.id)


@router.put("/devices/{device}/labels", summary="Label a device", operation_id="putLabels")
def put_labels(
    device: str,
    body: DeviceLabels,
    response: Response,
    who: Author,
    keepers: TheKeepers,
    if_match: IfMatch = None,
    reason: Reason = None,
) -> Device:
    """Put these labels on a device in place of those it has; its groups follow at once."""
    seen = keepers.fleet.device(device)
    changed = f"The machine {seen.hostname} was changed by somebody else"
    expect_tag(if_match, _etag(seen), f"the machine {seen.hostname}", changed, lambda: {"version": seen.version})
    keepers.enrolment.set_labels(seen, body.labels, who.name, reason)
    return _tagged(response, _shown(keepers, keepers.fleet.device(seen.id), who))


@router.post("/devices/{device}/retire", summary="Retire a device", operation_id="retireDevice")
def retire_device(device: str, who: Keeper, keepers: TheKeepers, reason: Reason = None) -> Device:
    """Take a device out of the fleet. Its credential is refused at once; its history stays."""
    seen = keepers.fleet.device(device)
    keepers.enrolment.retire(seen, who.name, reason)
    return _shown(keepers, keepers.fleet.device(seen.id), who)


@router.post("/devices/{device}/revoke", summary="Revoke a device's credential", operation_id="revokeDevice")
def revoke_device(device: str, who: Keeper, keepers: TheKeepers, reason: Reason = None) -> Device:
    """Shut a device out: refused at once, it goes on with its last good bundle until it joins again."""
    seen = keepers.fleet.device(device)
    keepers.enrolment.revoke_credential(seen, who.name, reason)
    return _shown(keepers, keepers.fleet.device(seen.id), who)


@router.post("/devices/{device}/confirm-rejoin", summary="Recognise a device", operation_id="confirmRejoin")
def confirm_rejoin(device: str, who: Keeper, keepers: TheKeepers, reason: Reason = None) -> Device:
    """It is the machine of the same serial that joined before: it takes up that one's id, history, labels and pins."""
    answered = keepers.enrolment.answer_rejoin(keepers.fleet.device(device), True, who.name, reason)
    return _shown(keepers, keepers.fleet.device(answered), who)


@router.post("/devices/{device}/keep-apart", summary="Keep a device apart", operation_id="keepApart")
def keep_apart(device: str, who: Keeper, keepers: TheKeepers, reason: Reason = None) -> Device:
    """It is another machine than the one of the same serial that joined before."""
    answered = keepers.enrolment.answer_rejoin(keepers.fleet.device(device), False, who.name, reason)
    return _shown(keepers, keepers.fleet.device(answered), who)
