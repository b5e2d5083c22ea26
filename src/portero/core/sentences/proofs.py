"""Proofs of changes in words."""

from __future__ import annotations

from portero.core.nouns.action import Verdict
from portero.core.nouns.probe_set import Probe
from portero.core.nouns.proof import ProofState
from portero.core.nouns.run import ProbeResult
from portero.core.nouns.verdict import Intended
from portero.core.wording import counted

_DOES = {Verdict.BLOCK: "stopped", Verdict.WARN: "warned of", Verdict.ALLOW: "open"}


def _on(number: int, devices: int) -> str:
    """On how many of some machines: “on none of 22”, “on all 22”."""
    if devices == 1:
        return "on the one machine" if number else "not on the one machine"
    return f"on {'all' if number == devices else 'none of' if not number else f'{number:,} of'} {devices:,}"


def forecast(probe: Probe, devices: int, now: int, then: int, settling: Intended | None) -> str:
    """What is meant of a probe now and after a change: “Meant to be stopped on none of 22 machines now, on all 22
    then.”
    """
    if not devices:
        return "It counts on no machine."
    meant = f"Meant to be {_DOES[probe.expect]} {_on(now, devices)} now, {_on(then, devices)} then."
    if then == devices or settling is None:
        return meant
    whys = " ".join(layer.why for layer in settling.layers)
    return f"{meant} {whys}".strip()


def waits(before: ProbeResult) -> str:
    """A probe that was not tried again yet."""
    if not before.devices:
        return "It counted on no machine before."
    return f"{_DOES[before.expected].capitalize()} {_on(before.passed, before.devices)} before; not tried again yet."


def pair(before: ProbeResult, after: ProbeResult, holds: bool) -> str:
    """What a probe came to before a change, and comes to since: “Stopped on none of 22 before, on all 22 since.”"""
    if not after.devices:
        return "It counts on no machine."
    earlier = f"{_on(before.passed, before.devices)} before" if before.devices else "counted on no machine before"
    told = f"{_DOES[after.expected].capitalize()} {earlier}, {_on(after.passed, after.devices)} since."
    if holds:
        return told
    verb = "does" if after.failed == 1 else "do"
    causes = f" {after.causes[0].detail}" if after.causes else ""
    return f"{told} {after.failed:,} {verb} not:{causes}" if causes else told


def proof(state: ProofState, probes: int, holding: int) -> str:
    """How far the proof of a change is."""
    if state == "holds":
        return f"It is proved: {'its probe comes' if probes == 1 else f'all {probes:,} probes come'} out everywhere."
    told = f"{holding:,} of {counted(probes, 'probe')} {'comes' if holding == 1 else 'come'} out everywhere"
    return f"{told} so far." if state == "waiting" else f"After a day {told}; it is tried no more."
