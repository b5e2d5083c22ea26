"""Devices, enrolment, settings, and how layers stand."""

from __future__ import annotations

import builtins
from collections.abc import Iterator, Mapping
from typing import Any

from portero.client.connection import Part, fields_of, given, segment
from portero.core.nouns.device import Device, DeviceEvent
from portero.core.nouns.enrolment import EnrolmentCode, EnrolmentCodeSummary, Invitations, Invited, NewEnrolmentCode
from portero.core.nouns.readiness import FleetReadiness, Readiness, UnitReadiness
from portero.core.nouns.rollout import RolloutCounts
from portero.core.nouns.settings import Settings, SettingsState
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


class Enforcement(Part):
    """The estate's settings, and how the fleet's layers stand."""

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

    def readiness(self, *, unit: str | None = None, group: str | None = None) -> FleetReadiness:
        """How many devices really enforce each layer, and what keeps the others from it."""
        return self.connection.get("/readiness", FleetReadiness, unit=unit, group=group)

    def unit_readiness(self, below: str | None = None) -> list[UnitReadiness]:
        """How each unit right below another one stands."""
        return self.connection.get_list("/readiness/units", UnitReadiness, below=below)
