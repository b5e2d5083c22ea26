"""Probe sets tried on an estate and a facts document alone: does the estate say what is expected of it?"""

from __future__ import annotations

from collections.abc import Iterator

from portero.core.insight.offline import OfflineEstate, UnknownDevice
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.base import Noun
from portero.core.nouns.estate import Estate, FactsDocument
from portero.core.nouns.probe_set import Probe
from portero.core.nouns.urls import BadUrl


class ProbeOutcome(Noun):
    """What a probe came to on one device. Without a verdict it could not be tried."""

    probe_set: str
    number: int
    device: str
    tried: str
    expected: Verdict
    found: Verdict | str

    @property
    def passed(self) -> bool:
        """Whether it came out as expected."""
        return self.found == self.expected


def try_probes(estate: Estate, facts: FactsDocument, offline: OfflineEstate) -> Iterator[ProbeOutcome]:
    """Every probe on every device of the facts document that it is meant for: the verdict that the estate intends."""
    for probe_set in estate.probe_sets:
        for number, probe in enumerate(probe_set.probes, start=1):
            for device in _devices(probe, facts, offline):
                yield ProbeOutcome(
                    probe_set=probe_set.key,
                    number=number,
                    device=device,
                    tried=probe.visit or _program(probe),
                    expected=probe.expect,
                    found=_found(probe, device, offline),
                )


def _devices(probe: Probe, facts: FactsDocument, offline: OfflineEstate) -> list[str]:
    if not isinstance(probe.to, str):
        return [probe.to.device]
    return [device.hostname for device in facts.devices if probe.to in offline.groups_of(device.hostname, probe.at)]


def _program(probe: Probe) -> str:
    given = probe.start.model_dump(exclude_none=True) if probe.start else {}
    return "start of " + " ".join(str(value) for value in given.values())


def _found(probe: Probe, device: str, offline: OfflineEstate) -> Verdict | str:
    attempt = Attempt(
        device=device,
        url=probe.visit,
        start=probe.start,
        user=probe.user,
        browser=probe.browser,
        at=probe.at,
        place=probe.place,
    )
    try:
        return offline.explain(attempt).intended.verdict
    except (UnknownDevice, BadUrl) as problem:
        return str(problem)
