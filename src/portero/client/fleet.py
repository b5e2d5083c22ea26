"""Devices, enrolment, groups, and how layers stand."""

from __future__ import annotations

import builtins
from collections.abc import Iterator, Mapping
from typing import Any

from portero.client.connection import Part, fields_of, given, segment
from portero.core.nouns.coverage import CoverageEntry, CoverageRow
from portero.core.nouns.device import Device, DeviceEvent
from portero.core.nouns.enrolment import EnrolmentCode, EnrolmentCodeSummary, Invitations, Invited, NewEnrolmentCode
from portero.core.nouns.group import (
    CopiedGroup,
    Group,
    GroupPreview,
    GroupSummary,
    Precedence,
    PrecedenceState,
)
from portero.core.nouns.readiness import FleetReadiness, Readiness, UnitReadiness
from portero.core.nouns.revision import RolloutCounts
from portero.core.nouns.settings import GroupLayers, GroupLayersState, Settings, SettingsState
from portero.core.nouns.verdict import Blocks


class Devices(Part):
    """The fleet."""

    def list(self, *, limit: int | None = None, **filters: Any) -> Iterator[Device]:
        """Devices, page by page as needed.

        Filters: search, unit, kind, group, lifecycle, rollout, blocker, layer, where (conditions as text), sort,
        descending.
        """
        return self.connection.pages("/devices", Device, limit, **filters)

    def get(self, device: str) -> Device:
        """One device by id or hostname. NotFound, AmbiguousDevice."""
        return self.connection.get(f"/devices/{segment(device)}", Device)

    def blocks(self, device: str) -> Blocks:
        """What the device does about each web category that some rule names for it."""
        return self.connection.get(f"/devices/{segment(device)}/blocks", Blocks)

    def rollout(self) -> RolloutCounts:
        """How many devices hold the newest bundle, wait for it, failed, or are silent."""
        return self.connection.get("/rollout", RolloutCounts)

    def readiness(self, device: str) -> Readiness:
        """Each layer of the device, and what stands in the way."""
        return self.connection.get(f"/devices/{segment(device)}/readiness", Readiness)

    def events(self, device: str) -> builtins.list[DeviceEvent]:
        """What was done to the device, newest first."""
        return self.connection.get_list(f"/devices/{segment(device)}/events", DeviceEvent)

    def set_labels(
        self, device: str, labels: Mapping[str, str], *, version: int | None = None, reason: str | None = None
    ) -> Device:
        """Put these labels on a device in place of those it has, as seen at `version`. ChangedMeanwhile."""
        headers = {"If-Match": "*" if version is None else f'"v{version}"'}
        path = f"/devices/{segment(device)}/labels"
        answer = self.connection.ask(
            "PUT", path, json={"labels": dict(labels)}, headers=headers, params=given({"reason": reason})
        )
        return Device.model_validate_json(answer.content)

    def retire(self, device: str, *, reason: str | None = None) -> Device:
        """Take a device out of the fleet. StillInUse where it is retired already."""
        return self._do(device, "retire", reason)

    def revoke(self, device: str, *, reason: str | None = None) -> Device:
        """Refuse the device's credential from now on."""
        return self._do(device, "revoke", reason)

    def confirm_rejoin(self, device: str, *, reason: str | None = None) -> Device:
        """It is the machine of the same serial that joined before; answers with that one."""
        return self._do(device, "confirm-rejoin", reason)

    def keep_apart(self, device: str, *, reason: str | None = None) -> Device:
        """It is another machine than the one of the same serial."""
        return self._do(device, "keep-apart", reason)

    def _do(self, device: str, what: str, reason: str | None) -> Device:
        return self.connection.post(f"/devices/{segment(device)}/{what}", {}, Device, reason=reason)


class Enrolment(Part):
    """Enrolment codes and invitations."""

    def codes(self) -> Iterator[EnrolmentCodeSummary]:
        """All enrolment codes, newest first, without the codes themselves."""
        return self.connection.pages("/enrolment-codes", EnrolmentCodeSummary)

    def create_code(self, new: NewEnrolmentCode | None = None) -> EnrolmentCode:
        """An enrolment code by which devices join; shown this once."""
        return self.connection.post("/enrolment-codes", new or NewEnrolmentCode(), EnrolmentCode)

    def revoke_code(self, id: str) -> None:
        """Take a code back. NotFound."""
        self.connection.delete(f"/enrolment-codes/{segment(id)}")

    def invite(self, invitations: Invitations) -> Invited:
        """Make machines known before they join, with a code each where wanted; all of them or none. Invalid."""
        return self.connection.post("/invitations", invitations, Invited)

    def invite_csv(self, data: bytes, *, hours: int = 24 * 14, codes: bool = True) -> Invited:
        """The same from a list as CSV; Invalid names each bad line in its errors."""
        params = {"hours": hours, "codes": codes}
        headers = {"Content-Type": "text/csv; charset=utf-8"}
        answer = self.connection.ask("POST", "/invitations/csv", content=data, params=params, headers=headers)
        return Invited.model_validate_json(answer.content)


class Groups(Part):
    """Groups of devices."""

    def list(self) -> Iterator[GroupSummary]:
        """All groups, strongest first."""
        return self.connection.pages("/groups", GroupSummary)

    def get(self, key: str) -> GroupSummary:
        """One group. NotFound."""
        return self.connection.get(f"/groups/{segment(key)}", GroupSummary)

    def create(self, group: Group, *, reason: str | None = None) -> GroupSummary:
        """Make a group. AlreadyExists, Invalid."""
        return self.connection.post("/groups", group, GroupSummary, once=True, reason=reason)

    def put(self, group: Group, *, version: int | None, reason: str | None = None) -> GroupSummary:
        """Change a group as seen at `version` (None overwrites whatever there is). ChangedMeanwhile."""
        return self.connection.put(f"/groups/{segment(group.key)}", group, GroupSummary, version, reason=reason)

    def remove(self, key: str, *, version: int | None = None, reason: str | None = None) -> None:
        """Remove a group that nothing names. StillInUse."""
        self.connection.delete(f"/groups/{segment(key)}", version, reason=reason)

    def preview(self, group: Group) -> GroupPreview:
        """Whom the group, saved or not, would hold; who comes in and who drops out. Nothing is kept."""
        return self.connection.consult("/groups/preview", group, GroupPreview)

    def copy(self, key: str, new: CopiedGroup, *, reason: str | None = None) -> GroupSummary:
        """A group with the same rule and pins, right behind the original. AlreadyExists."""
        return self.connection.post(f"/groups/{segment(key)}/copy", new, GroupSummary, reason=reason)

    def order(self) -> PrecedenceState:
        """The one order of groups, strongest first, without the built-in ones."""
        return self.connection.get("/precedence", PrecedenceState)

    def put_order(self, order: Precedence, *, version: int | None, reason: str | None = None) -> PrecedenceState:
        """Put groups into another order, as seen at `version`. ChangedMeanwhile."""
        return self.connection.put("/precedence", order, PrecedenceState, version, reason=reason)


class Enforcement(Part):
    """What layers should do, how far controls reach, and how the fleet stands."""

    def settings(self) -> SettingsState:
        """The estate's settings."""
        return self.connection.get("/settings", SettingsState)

    def change_settings(self, *, reason: str | None = None, **changed: object) -> SettingsState:
        """Change some of the estate's settings, and leave the others as they are. ChangedMeanwhile, Invalid."""
        seen = self.settings()
        settings = Settings.model_validate({**fields_of(seen, Settings), **changed})
        return self.put_settings(settings, version=seen.version, reason=reason)

    def put_settings(self, settings: Settings, *, version: int | None, reason: str | None = None) -> SettingsState:
        """Change the estate's settings as seen at `version`. ChangedMeanwhile."""
        return self.connection.put("/settings", settings, SettingsState, version, reason=reason)

    def layer_modes(self) -> list[GroupLayersState]:
        """What groups say about layers, strongest group first."""
        return self.connection.get_list("/layer-modes", GroupLayersState)

    def put_layer_modes(
        self, modes: GroupLayers, *, version: int | None = None, reason: str | None = None
    ) -> GroupLayersState:
        """Say what layers should do on a group's devices. ChangedMeanwhile, Invalid."""
        path = f"/layer-modes/{segment(modes.group)}"
        return self.connection.put(path, modes, GroupLayersState, version, reason=reason)

    def remove_layer_modes(self, group: str, *, version: int | None = None, reason: str | None = None) -> None:
        """Leave a group's layers to weaker groups and the estate again. NotFound."""
        self.connection.delete(f"/layer-modes/{segment(group)}", version, reason=reason)

    def coverage(self) -> list[CoverageEntry]:
        """The coverage table."""
        return self.connection.get_list("/coverage", CoverageEntry)

    def put_coverage_row(
        self, row: CoverageRow, *, version: int | None = None, reason: str | None = None
    ) -> CoverageEntry:
        """Put a row into the coverage table. ChangedMeanwhile."""
        return self.connection.put("/coverage", row, CoverageEntry, version, reason=reason)

    def reset_coverage_row(self, key: str, *, version: int | None = None, reason: str | None = None) -> None:
        """Take an edited row out of the table again. NotFound."""
        path = "/coverage/" + "/".join(segment(part) for part in key.split("/"))
        self.connection.delete(path, version, reason=reason)

    def readiness(self, *, unit: str | None = None, group: str | None = None) -> FleetReadiness:
        """How many devices really enforce each layer, and what keeps the others from it."""
        return self.connection.get("/readiness", FleetReadiness, unit=unit, group=group)

    def unit_readiness(self, below: str | None = None) -> list[UnitReadiness]:
        """How each unit right below another one stands."""
        return self.connection.get_list("/readiness/units", UnitReadiness, below=below)
