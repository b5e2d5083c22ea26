"""Predicted runs: probes tried on all machines with the code that decides, once for those that fare alike."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Hashable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from portero.core.insight.whys import WhyAsked, cause_of
from portero.core.nouns.action import STRICTNESS, Verdict
from portero.core.nouns.assignment import Target
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.caveat import Caveat, CaveatCode
from portero.core.nouns.finding import DeviceName
from portero.core.nouns.probe_set import Probe, ProbeSet
from portero.core.nouns.run import DecidingRule, ProbeResult, RunCause, Shortfall
from portero.core.nouns.urls import BadUrl
from portero.core.nouns.verdict import LayerVerdict, RuleReference
from portero.core.nouns.why import CauseCode
from portero.core.resolving.ladder import Contender
from portero.core.sentences import runs as words

FEW = 5
"""So many machines are named as examples, and so many rules as deciding."""


class Alike(NamedTuple):
    """Machines that fare alike whatever is tried: the same policies, and the same facts as far as they count."""

    groups: tuple[str, ...]
    devices: tuple[DeviceName, ...]
    ask: Callable[[Attempt, Verdict], WhyAsked]
    """An attempt on the first of them. BadUrl."""


class Numbered(NamedTuple):
    """A probe with its set and its place in it, from 1."""

    set: ProbeSet
    number: int
    probe: Probe


def numbered(sets: Iterable[ProbeSet]) -> list[Numbered]:
    """The probes of some sets."""
    return [Numbered(one, number, probe) for one in sets for number, probe in enumerate(one.probes, start=1)]


class Failing(NamedTuple):
    """A cause with all machines on which it is one."""

    cause: RunCause
    devices: list[DeviceName]


class Tried(NamedTuple):
    """What a probe came to, and on which machines it does not come out as expected, cause by cause."""

    result: ProbeResult
    failing: list[Failing]


class Scope:
    """The machines that some targets hold."""

    def __init__(self, targets: Iterable[Target]) -> None:
        self._groups = {target for target in targets if isinstance(target, str)}
        self._names = {target.device.casefold() for target in targets if not isinstance(target, str)}

    def of(self, alike: Alike) -> Sequence[DeviceName]:
        """Those of the machines alike that it holds."""
        if not self._groups.isdisjoint(alike.groups):
            return alike.devices
        if not self._names:
            return ()
        return [one for one in alike.devices if one.id in self._names or one.hostname in self._names]


def predict(
    probes: Sequence[Numbered], machines: Sequence[Alike], on: Sequence[Target] = (), *, as_meant: bool = False
) -> Iterator[Tried]:
    """What each probe comes to on the machines on which it counts: as they are, or as the estate means it."""
    machines = _within(on, machines)
    for one in probes:
        yield _try(one, Scope(one.set.targets_of(one.probe)), machines, as_meant)


def _within(on: Sequence[Target], machines: Sequence[Alike]) -> Sequence[Alike]:
    """The machines that some targets hold, where any are named."""
    if not on:
        return machines
    scope = Scope(on)
    held = (alike._replace(devices=tuple(scope.of(alike))) for alike in machines)
    return [alike for alike in held if alike.devices]


def reached(probes: Sequence[Numbered], machines: Sequence[Alike], on: Sequence[Target] = ()) -> int:
    """On how many machines some of the probes count."""
    scopes = [Scope(targets) for targets in {one.set.targets_of(one.probe) for one in probes}]
    return sum(len({device.id for scope in scopes for device in scope.of(alike)}) for alike in _within(on, machines))


@dataclass
class _Sum:
    """What a probe comes to, as it is being summed up."""

    devices: int = 0
    meant: int = 0
    passed: int = 0
    rules: Counter[tuple[str, str]] = field(default_factory=Counter)
    failing: dict[Hashable, Failing] = field(default_factory=dict)
    known: dict[Hashable, RunCause] = field(default_factory=dict)
    matched: dict[frozenset[str], list[tuple[Contender, RuleReference]]] = field(default_factory=dict)
    """Every rule that matches it, by the names by which machines may be meant alone."""
    concerned: frozenset[str] | None = None
    """The groups with a rule that matches it."""

    def fail(self, cause: RunCause, devices: Sequence[DeviceName]) -> None:
        known = self.failing.setdefault((cause.code, cause.remedy), Failing(cause, []))
        known.devices.extend(devices)


def _try(one: Numbered, scope: Scope, machines: Sequence[Alike], as_meant: bool) -> Tried:
    total = _Sum()
    for alike in machines:
        devices = scope.of(alike)
        if devices:
            total.devices += len(devices)
            _look(one.probe, alike, devices, total, as_meant)
    return _told(one, total)


def _look(probe: Probe, alike: Alike, devices: Sequence[DeviceName], total: _Sum, as_meant: bool) -> None:
    """Try a probe on the first of the machines alike, for those on which it counts."""
    try:
        question = alike.ask(probe.attempt(devices[0].hostname), probe.expect)
        explanation = question.explanation
    except BadUrl as problem:
        total.fail(RunCause(code="not-judged", devices=0, **words.not_judged(str(problem))), devices)
        return
    side = explanation.intended if as_meant else explanation.effective
    is_meant = explanation.intended.verdict is probe.expect
    total.meant += len(devices) if is_meant else 0
    short = shortfall(probe, side.verdict, side.layers, () if as_meant else explanation.effective.caveats)
    if short is None:
        total.passed += len(devices)
    else:
        total.fail(_cause(short, probe, question, side.layers, total, as_meant), devices)
    for named in {_named(winner) for winner in _settling(side.verdict, side.layers)}:
        total.rules[named] += len(devices)


def _settling(verdict: Verdict, layers: Sequence[LayerVerdict]) -> Iterator[RuleReference]:
    """The rules that settle an attempt: those of the layers that say what it comes to."""
    return (layer.winner for layer in layers if layer.winner is not None and layer.verdict is verdict)


def _named(rule: RuleReference) -> tuple[str, str]:
    return rule.ruleset, rule.selector


def shortfall(
    probe: Probe, verdict: Verdict, layers: Sequence[LayerVerdict], caveats: Iterable[Caveat] = ()
) -> Shortfall | None:
    """What is not as the probe expects; None where all is. A verdict is told as a missing or a stopping rule, until its
    cause is known.
    """
    if verdict is not probe.expect:
        looser = STRICTNESS[verdict] < STRICTNESS[probe.expect]
        return CauseCode.NO_RULE if looser else CauseCode.STOPPED_BY_RULE
    if probe.layer is not None and not any(one.layer is probe.layer and one.verdict is verdict for one in layers):
        return "other-layer"
    if probe.ruleset is not None and probe.ruleset not in {one.ruleset for one in _settling(verdict, layers)}:
        return "other-rule"
    if probe.notice and any(one.code is CaveatCode.NOTICE_HIDDEN for one in caveats):
        return CauseCode.LOOKS_LIKE_FAILURE
    return None


def _cause(
    short: Shortfall,
    probe: Probe,
    question: WhyAsked,
    layers: Sequence[LayerVerdict],
    total: _Sum,
    as_meant: bool,
) -> RunCause:
    """Why the probe does not come out as expected on a machine; looked for once for machines on which all that counts
    is the same.
    """
    if as_meant or short not in (CauseCode.NO_RULE, CauseCode.STOPPED_BY_RULE):
        return RunCause(code=short, devices=0, **words.shortfall(short, probe, layers))
    names = frozenset(question.names) & question.estate.named_devices
    if names not in total.matched:
        total.matched[names] = question.matching()
    matched = total.matched[names]
    if total.concerned is None:
        owners = {named.assignment for _, named in matched}
        total.concerned = frozenset(key for owner in owners for key in question.assignment(owner).groups)
    alike = _alike(question, total.concerned)
    known = total.known.get(alike)
    if known is None:
        cause = cause_of(question.shortly(matched))
        if cause is None:
            known = RunCause(code=short, devices=0, **words.shortfall(short, probe, layers))
        else:
            known = RunCause(
                code=cause.code,
                stage=cause.stage,
                devices=0,
                detail=cause.detail,
                remedy=cause.remedy,
            )
        total.known[alike] = known
    return known


def _alike(question: WhyAsked, concerned: frozenset[str]) -> Hashable:
    """What the cause hangs on, whatever the machine."""
    told = question.explanation
    machine = question.case.machine
    return (
        told.intended.verdict,
        told.effective.verdict,
        tuple((one.code, one.layer) for one in told.effective.caveats),
        tuple((one.layer, one.winner) for one in (*told.intended.layers, *told.effective.layers)),
        # which rules there are counts only where they do not mean what is expected
        frozenset(question.groups) & concerned if told.intended.verdict is not question.expected else None,
        tuple(question.policy.bundle.layers.items()),
        question.policy.device,
        (machine.lifecycle, machine.current, machine.layers, machine.place),
        question.facts.kind,
        (question.facts.unit, question.rollout.state if question.rollout else None) if not concerned else None,
        tuple(question.estate.mode_given_by(layer, question.groups) for layer in question.policy.bundle.layers),
    )


def counted_cause(cause: RunCause, devices: list[DeviceName]) -> Failing:
    """A cause with the machines on which it is one, and some of them named."""
    examples = tuple(device.hostname for device in devices[:FEW])
    return Failing(cause.model_copy(update={"devices": len(devices), "examples": examples}), devices)


def _told(one: Numbered, total: _Sum) -> Tried:
    failing = [counted_cause(*found) for found in sorted(total.failing.values(), key=lambda found: -len(found.devices))]
    result = ProbeResult(
        set=one.set.key,
        number=one.number,
        name=one.probe.name,
        tried=one.probe.tried,
        what=one.probe.what,
        user=one.probe.user,
        browser=one.probe.browser,
        how=one.probe.how,
        to=one.set.targets_of(one.probe),
        expected=one.probe.expect,
        devices=total.devices,
        meant=total.meant,
        passed=total.passed,
        causes=tuple(found.cause for found in failing),
        decided_by=tuple(
            DecidingRule(ruleset=ruleset, selector=selector, devices=number)
            for (ruleset, selector), number in total.rules.most_common(FEW)
        ),
    )
    return Tried(result.model_copy(update={"sentence": words.result(result)}), failing)
