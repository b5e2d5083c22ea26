"""What an estate means of some probes, by the groups of machines: no more of the machines counts."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from functools import cache

from portero.core.insight.effects.world import World
from portero.core.insight.predicting import Numbered
from portero.core.matching.categories import CategoryIndex
from portero.core.matching.classes import Groups
from portero.core.matching.members import Member
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import LayerMode, Layers
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.urls import BadUrl
from portero.core.nouns.verdict import Intended
from portero.core.resolving.compiling import ANY_STATE, compile_bundle
from portero.core.resolving.enforcement import Machine
from portero.core.resolving.explaining import Case, explain, matching
from portero.core.resolving.policy import Policy

_ENFORCING = Layers(filter=LayerMode.ENFORCING, browser=LayerMode.ENFORCING, startup=LayerMode.ENFORCING)


def counting(one: Numbered, groups: Groups, members: Sequence[Member]) -> Sequence[Member]:
    """Those of some machines in the same groups on which a probe counts."""
    targets = one.set.targets_of(one.probe)
    if any(isinstance(target, str) and target in groups for target in targets):
        return members
    names = {target.device for target in targets if not isinstance(target, str)}
    return [member for member in members if names & {member.id, member.facts.hostname}] if names else ()


class Intentions:
    """What an estate means of probes, on machines in some groups. Only the rules that match one count."""

    def __init__(self, estate: Estate, probes: Sequence[Numbered], world: World, index: CategoryIndex) -> None:
        self._estate, self._world, self._index = estate, world, index
        self._named = estate.named_devices
        self._reduced = _reduced(estate, [self._case(one, None) for one in probes])
        self._policy: Callable[[Groups, tuple[str, ...]], Policy] = cache(self._compiled)
        self._known: dict[tuple[str, int, Groups, tuple[str, ...]], Intended | None] = {}

    def of(self, one: Numbered, groups: Groups, member: Member) -> Intended | None:
        """What is meant of it on a machine; None where it cannot be judged."""
        names = (member.id, member.facts.hostname)
        own = tuple(name for name in names if name in self._named)
        key = (one.set.key, one.number, groups, own)
        if key not in self._known:
            try:
                policy = self._policy(groups, own)
                self._known[key] = explain(policy, self._case(one, policy)).intended
            except BadUrl:
                self._known[key] = None
        return self._known[key]

    def _compiled(self, groups: Groups, names: tuple[str, ...]) -> Policy:
        return Policy(compile_bundle(self._reduced, groups, names), names[-1] if names else "")

    def _case(self, one: Numbered, applied: Policy | None) -> Case:
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
