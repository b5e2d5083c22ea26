"""Devices, and how far they are with their newest bundles."""

from __future__ import annotations

import builtins
from collections.abc import Iterator, Mapping
from typing import Any

from portero.client.connection import Part, given, segment
from portero.core.nouns.browser_list import BrowserList, ListPlatform
from portero.core.nouns.browser_policy import BrowserStanding
from portero.core.nouns.device import Device, DeviceEvent
from portero.core.nouns.readiness import Readiness
from portero.core.nouns.rollout import RolloutCounts
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
        """What the device does about each web category, and about all else, that some rule names for it."""
        return self.connection.get(f"/devices/{segment(device)}/blocks", Blocks)

    def site_list(self, device: str, browser: str = "chromium", *, platform: ListPlatform | None = None) -> BrowserList:
        """The site list that a browser of the device is handed now, with the very file; by default in the form of the
        device's own platform. NotFound.
        """
        asked = {"browser": browser, "platform": platform}
        return self.connection.get(f"/devices/{segment(device)}/site-list", BrowserList, **asked)

    def browsers(self, device: str) -> builtins.list[BrowserStanding]:
        """The browsers of the device, who governs each, and how its policy file stands. NotFound."""
        return self.connection.get_list(f"/devices/{segment(device)}/browsers", BrowserStanding)

    def rollout(self, **filters: Any) -> RolloutCounts:
        """How many devices, or of those that filters leave (as in `list`), hold the newest bundle, wait for it, failed,
        or are silent.
        """
        return self.connection.get("/rollout", RolloutCounts, **filters)

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
