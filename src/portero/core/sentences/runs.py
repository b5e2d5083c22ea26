"""Runs in words."""

from __future__ import annotations

from collections.abc import Sequence

from portero.core.nouns.action import Verdict
from portero.core.nouns.compared import MachineVerdict
from portero.core.nouns.probe_set import Probe
from portero.core.nouns.run import ProbeResult, RunSummary, Shortfall
from portero.core.nouns.verdict import Intended, LayerVerdict
from portero.core.nouns.why import CauseCode
from portero.core.wording import counted, joined

INTERRUPTED = "The service was stopped while this run was under way; start it again."
_DOES = {Verdict.BLOCK: "Blocks", Verdict.WARN: "Warns", Verdict.ALLOW: "Passes"}


def result(told: ProbeResult) -> str:
    """What a probe came to: “Blocks on 96,410 of 97,002 machines; 592 do not, for 4 reasons.”"""
    if not told.devices:
        return "It counts on no machine."
    does = _DOES[told.expected]
    if not told.failed:
        return f"{does} on {'the one machine' if told.devices == 1 else f'all {told.devices:,} machines'}."
    verb = "does" if told.failed == 1 else "do"
    reasons = f", for {counted(len(told.causes), 'reason')}" if len(told.causes) > 1 else ""
    return f"{does} on {told.passed:,} of {counted(told.devices, 'machine')}; {told.failed:,} {verb} not{reasons}."


def run(told: RunSummary) -> str:
    """What a run came to."""
    if told.problem is not None:
        return told.problem
    if not told.probes:
        return "There was nothing to try."
    tried = told.probes - told.nowhere
    passed = tried - told.failed
    verb = "counts" if told.nowhere == 1 else "count"
    left = f"; {told.nowhere:,} {verb} on no machine there" if told.nowhere else ""
    on = f"on {counted(told.devices, 'machine')}{left}{_observed(told)}"
    if not tried:
        return "No probe counts on any machine there."
    if not told.failed:
        every = "The one probe comes" if tried == 1 else f"All {tried:,} probes come"
        return f"{every} out as expected, {on}."
    verb = "comes" if passed == 1 else "come"
    return f"{passed:,} of {counted(tried, 'probe')} {verb} out as expected everywhere, {on}."


def _observed(told: RunSummary) -> str:
    """Who answered, and how often something else was seen than predicted."""
    if told.answered is None:
        return ""
    silent, odd = told.devices - told.answered, told.disagreements
    answered = f"; {silent:,} did not answer" if silent else ""
    return answered + (f"; {counted(odd, 'time')} something else was seen than predicted" if odd else "")


def compared(one: MachineVerdict, other: MachineVerdict, deciding: Sequence[str]) -> str:
    """What two machines would do, and what of their differences decides."""
    if one.effective is other.effective:
        return f"Both come to {one.effective}."
    return _deciding(f"{one.device} comes to {one.effective}, {other.device} to {other.effective}", deciding)


def now_and_earlier(now: MachineVerdict, earlier: MachineVerdict, deciding: Sequence[str]) -> str:
    """What becomes of an attempt now, what would have earlier, and what of the differences decides."""
    if now.effective is earlier.effective:
        return f"It comes to {now.effective}, as it did then."
    return _deciding(f"It comes to {now.effective} now, and came to {earlier.effective} then", deciding)


def _deciding(told: str, deciding: Sequence[str]) -> str:
    if deciding:
        return f"{told}: {joined(list(deciding), 'or')} alone would make the difference."
    return f"{told}; no single difference makes that, several do together."


def never_observed(machines: int, observed: int) -> str:
    """How many machines have tried some probe: “14 of 246 machines have tried a probe.”"""
    if not machines:
        return "No machine has joined."
    number = f"{observed:,}" if observed else "None"
    return f"{number} of {counted(machines, 'machine')} {'has' if observed < 2 else 'have'} tried a probe."


def probed(rules: int, number: int, days: int) -> str:
    """How many rules have a probe that ran: “312 of 340 rules have a probe that ran in the last 30 days.”"""
    if not rules:
        return "No rule that somebody has written is in force."
    has = "has" if number == 1 else "have"
    return f"{number:,} of {counted(rules, 'rule')} {has} a probe that ran in the last {counted(days, 'day')}."


def gate_failure(set: str, number: int, probe: Probe, was: Verdict, then: Intended, devices: int) -> str:
    """A probe of the gate that a change fails."""
    name = f" ({probe.name})" if probe.name else ""
    settling = [layer.why for layer in then.layers if layer.winner and layer.verdict is then.verdict]
    whys = " ".join(settling) or "No rule would decide it any more."
    return (
        f"Probe {number} of {set}{name}, {probe.tried}, comes to {was} and would come to {then.verdict} on"
        f" {counted(devices, 'machine')}: {whys}"
    )


def run_failed(told: RunSummary, revision: int) -> str:
    """That a run's probes did not come out, and whether the estate was changed since."""
    tried = told.probes - told.nowhere
    since = "" if told.revision == revision else f"; {counted(revision - told.revision, 'revision')} since"
    verb = "does" if told.failed == 1 else "do"
    return f"{told.failed:,} of {counted(tried, 'probe')} {verb} not come out as expected in run {told.id}{since}."


def not_judged(problem: str) -> dict[str, str]:
    """A probe that cannot be tried."""
    return {"detail": problem, "remedy": "Write the probe anew."}


def shortfall(short: Shortfall, probe: Probe, layers: Sequence[LayerVerdict]) -> dict[str, str]:
    """What is not as a probe expects."""
    whys = " ".join(layer.why for layer in layers)
    if short == "other-layer":
        stopping = joined([layer.layer for layer in layers if layer.verdict is probe.expect])
        return {
            "detail": f"It is the {stopping} that stops it, not the {probe.layer}. {whys}",
            "remedy": f"See what the {probe.layer} says of it, or change the probe.",
        }
    if short == "other-rule":
        return {"detail": f"It is not {probe.ruleset} that settles it. {whys}", "remedy": "Look at the rules that do."}
    if short is CauseCode.LOOKS_LIKE_FAILURE:
        return {
            "detail": "It is stopped, and no notice can be shown: it looks like a failed connection.",
            "remedy": "Tell people what a refused connection means, or expect no notice.",
        }
    return {"detail": whys, "remedy": "Change the rule, or what the probe expects."}
