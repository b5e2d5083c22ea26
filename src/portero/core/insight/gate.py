"""The gate: the probes that every change must pass, tried on what the estate means before it and after it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from functools import cache
from typing import NamedTuple

from portero.core.insight.effects.world import Groups, World
from portero.core.insight.predicting import shortfall
from portero.core.matching.categories import CategoryIndex
from portero.core.matching.members import Member
from portero.core.nouns.action import Verdict
from portero.core.nouns.assignment import Target
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import LayerMode, Layers
from portero.core.nouns.preview import GateFailure
from portero.core.nouns.probe_set import Probe
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.urls import BadUrl
from portero.core.nouns.verdict import Intended
from portero.core.resolving.compiling import ANY_STATE, compile_bundle
from portero.core.resolving.enforcement import Machine
from portero.core.resolving.explaining import Case, explain, matching
from portero.core.resolving.policy import Policy
from portero.core.sentences import runs as words

FEW = 5
"""So many machines are named as examples."""
_ENFORCING = Layers(filter=LayerMode.ENFORCING, browser=LayerMode.ENFORCING, startup=LayerMode.ENFORCING)


class Gated(NamedTuple):
    """A probe that every change must pass."""

    set: str
    number: int
    probe: Probe
    targets: tuple[Target, ...]


def gated(estate: Estate) -> list[Gated]:
    """The probes of the estate's gate."""
    sets = {one.key: one for one in estate.probe_sets}
    return [
        Gated(key, number, probe, sets[key].targets_of(probe))
        for key in estate.settings.gate
        if key in sets
        for number, probe in enumerate(sets[key].probes, start=1)
    ]


def failures(
    before: Estate, after: Estate, moved: Mapping[str, Groups], world: World, index: CategoryIndex
) -> list[GateFailure]:
    """The probes of the gate that come out on fewer machines after a change than before it. `moved` gives the groups
    of those devices that would have others, by id.
    """
    probes = gated(after)
    if not probes:
        return []
    pairs = world.moving(moved)
    meant = [_Meaning(estate, probes, world, index) for estate in (before, after)]
    found = (_failure(one, pairs, *meant) for one in probes)
    return [one for one in found if one is not None]


def _failure(
    one: Gated, pairs: Mapping[tuple[Groups, Groups], Sequence[Member]], before: _Meaning, after: _Meaning
) -> GateFailure | None:
    failing: list[Member] = []
    told: tuple[Verdict, Intended] | None = None
    for (had, has), members in pairs.items():
        for member in _meant_by(one.targets, has, members):
            names = (member.id, member.facts.hostname)
            then = after.of(one, has, names)
            if then is None or shortfall(one.probe, then.verdict, then.layers) is None:
                continue
            now = before.of(one, had, names)
            if now is not None and shortfall(one.probe, now.verdict, now.layers) is None:
                failing.append(member)
                told = told or (now.verdict, then)
    if told is None:
        return None
    was, then = told
    return GateFailure(
        set=one.set,
        number=one.number,
        name=one.probe.name,
        tried=one.probe.tried,
        expected=one.probe.expect,
        before=was,
        after=then.verdict,
        devices=len(failing),
        examples=tuple(sorted(member.facts.hostname for member in failing)[:FEW]),
        rule=next((layer.winner for layer in then.layers if layer.winner and layer.verdict is then.verdict), None),
        sentence=words.gate_failure(one.set, one.number, one.probe, was, then, len(failing)),
    )


def _meant_by(targets: Iterable[Target], groups: Groups, members: Sequence[Member]) -> Sequence[Member]:
    if any(isinstance(target, str) and target in groups for target in targets):
        return members
    names = {target.device for target in targets if not isinstance(target, str)}
    return [member for member in members if names & {member.id, member.facts.hostname}] if names else ()


class _Meaning:
    """What an estate means of the gate's probes, on machines in some groups. Only the rules that match one count."""

    def __init__(self, estate: Estate, probes: Sequence[Gated], world: World, index: CategoryIndex) -> None:
        self._estate, self._world, self._index = estate, world, index
        self._named = estate.named_devices
        self._reduced = _reduced(estate, [self._case(one, None) for one in probes])
        self._policy: Callable[[Groups, tuple[str, ...]], Policy] = cache(self._compiled)
        self._known: dict[tuple[str, int, Groups, tuple[str, ...]], Intended | None] = {}

    def of(self, one: Gated, groups: Groups, names: tuple[str, ...]) -> Intended | None:
        """What is meant there; None where it cannot be judged."""
        own = tuple(name for name in names if name in self._named)
        key = (one.set, one.number, groups, own)
        if key not in self._known:
            try:
                policy = self._policy(groups, own)
                self._known[key] = explain(policy, self._case(one, policy)).intended
            except BadUrl:
                self._known[key] = None
        return self._known[key]

    def _compiled(self, groups: Groups, names: tuple[str, ...]) -> Policy:
        return Policy(compile_bundle(self._reduced, groups, names), names[-1] if names else "")

    def _case(self, one: Gated, applied: Policy | None) -> Case:
        attempt = one.probe.attempt("any-machine")
        at: datetime = attempt.at or self._world.now
        machine = Machine(
            layers=_ENFORCING,
            applied=applied,
            coverage=self._estate.coverage_table,
            catalogue=self._world.catalogue,
        )
        people = self._world.directory.groups_of(attempt.user) if attempt.user else frozenset()
        filled: Attempt = attempt.model_copy(update={"at": at})
        return Case(filled, self._index, machine, people)


def _reduced(estate: Estate, cases: Sequence[Case]) -> Estate:
    """The estate with those rules alone that match some attempt: what becomes of these is the same, and it is quick.

    What replaces weaker assignments does so by having any rule at all, and keeps all of them.
    """
    names = tuple(estate.named_devices)
    everywhere = Policy(compile_bundle(estate, estate.group_order, names, ANY_STATE), names[-1] if names else "")
    replacing = {one.ruleset for one in estate.assignments if one.replaces_weaker}
    kept: dict[str, set[int]] = {}
    for case in cases:
        try:
            for contender in matching(everywhere, case):
                owner = everywhere.bundle.assignments[contender.assignment]
                kept.setdefault(owner.ruleset, set()).add(owner.rules[contender.rule - 1].number)
        except BadUrl:
            continue
    rulesets = tuple(
        ruleset if ruleset.key in replacing else _with_rules(ruleset, kept.get(ruleset.key, ()))
        for ruleset in estate.rulesets
    )
    return estate.replacing(rulesets=rulesets)


def _with_rules(ruleset: Ruleset, numbers: Iterable[int]) -> Ruleset:
    rules = tuple(ruleset.rules[number - 1] for number in sorted(numbers))
    return Ruleset.model_construct(**{**dict(ruleset), "rules": rules, "includes": ()})
