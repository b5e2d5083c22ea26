"""What is asked, with all that is known of the machine; and what would become of it if something were otherwise."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cached_property
from typing import Any, NamedTuple

import msgspec

from portero.core.by_identity import ByIdentity
from portero.core.insight.quick_words import Known
from portero.core.nouns.action import STRICTNESS, Action, Verdict
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.device import Facts
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import LayerMode
from portero.core.nouns.rollout import RolloutState
from portero.core.nouns.urls import Visit, parse_visit
from portero.core.nouns.verdict import Explanation, RuleReference
from portero.core.nouns.why import Cause
from portero.core.resolving.compiling import ANY_STATE, compile_bundle
from portero.core.resolving.explaining import Case, explain, matching
from portero.core.resolving.ladder import Contender
from portero.core.resolving.policy import Policy
from portero.core.resolving.telling import teller_of

Mend = Callable[[Estate], Estate]
"""Takes the estate; gives it with the cause mended."""


class FoundCause(NamedTuple):
    """A cause, what mends it in the estate by the remedy's key, and, where no estate does, what would come of it."""

    cause: Cause
    mends: Mapping[str, Mend] = {}
    comes_to: Callable[[], Verdict] | None = None


class Earlier(NamedTuple):
    """The estate as it was before a revision, and what that revision was."""

    revision: int
    sentence: str
    estate: Estate


class MatchingRule(NamedTuple):
    """A rule that matches the attempt, from whatever group and in whatever state, and what it is called."""

    contender: Contender
    named: RuleReference
    is_own: bool
    """Whether it is on this machine; else on groups that the machine is not in."""


def _by_key(estate: Estate) -> dict[str, Assignment]:
    return {one.key: one for one in estate.assignments}


_assignments: ByIdentity[Estate, dict[str, Assignment]] = ByIdentity(_by_key)


def _targeting(estate: Estate) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for one in estate.assignments:
        for target in (*one.groups, *one.named_devices):
            found.setdefault(target, []).append(one.key)
    return found


_by_target: ByIdentity[Estate, dict[str, list[str]]] = ByIdentity(_targeting)


def _nothing_yet(_estate: Estate) -> dict[tuple[str, ...], Policy]:
    return {}


_everywhere: ByIdentity[Estate, dict[tuple[str, ...], Policy]] = ByIdentity(_nothing_yet)


@dataclass(frozen=True)
class WhyAsked:
    """An attempt on a machine, and what was expected of it."""

    estate: Estate
    policy: Policy
    case: Case
    groups: tuple[str, ...]
    names: tuple[str, ...]
    """The machine's id and hostname, by which assignments may mean it alone."""
    expected: Verdict
    known: Known
    facts: Facts
    """What the machine reports."""
    rollout: RolloutState | None = None
    """How far it is with its newest bundle; None where it is judged from documents."""
    last_heard: datetime | None = None
    earlier: Callable[[], Iterable[Earlier]] = tuple
    """The states before this one, the latest first."""
    went_on: Callable[[], str | None] = lambda: None
    """When somebody went on past a warning of it on this machine, in words."""
    matched: list[tuple[Contender, RuleReference]] | None = None
    """What matches, where that is known."""
    in_short: bool = False
    """Only which cause it is, by what can be told without trying changes of the estate or looking at earlier ones."""
    said_by: Callable[[], str | None] = lambda: None
    """By what the host has its categories, in words."""

    def expecting(self, expected: Verdict) -> WhyAsked:
        """The same, where something else was expected."""
        return replace(self, expected=expected)

    def shortly(self, matched: list[tuple[Contender, RuleReference]]) -> WhyAsked:
        """The same, answered in short; `matched` is what `matching` gave for the same attempt elsewhere."""
        return replace(self, in_short=True, matched=matched)

    @cached_property
    def explanation(self) -> Explanation:
        """What the machine would do about it."""
        return explain(self.policy, self.case)

    @property
    def found(self) -> Verdict:
        """What the machine would do."""
        return self.explanation.effective.verdict

    def intended(self) -> Verdict:
        """What the estate means."""
        return self.explanation.intended.verdict

    @property
    def is_looser(self) -> bool:
        """Whether less is stopped than was expected."""
        return STRICTNESS[self.found] < STRICTNESS[self.expected]

    @cached_property
    def action(self) -> Action:
        """What a rule says that leads to what was expected."""
        return Action(self.expected.value)

    @cached_property
    def visit(self) -> Visit | None:
        """What is visited; None for a start."""
        return parse_visit(self.case.attempt.url) if self.case.attempt.url is not None else None

    def verdict(self, policy: Policy | None = None, **machine: Any) -> Verdict:
        """What it would come to with another policy, or on a machine of which something is otherwise."""
        case = self.case._replace(machine=self.case.machine._replace(**machine))
        return explain(policy or self.policy, case).effective.verdict

    def in_no_browser(self) -> Verdict:
        """What it would come to in a browser that takes every site list as it is meant."""
        attempt = self.case.attempt.model_copy(update={"browser": None})
        return explain(self.policy, self.case._replace(attempt=attempt)).effective.verdict

    def on_enforcing(self, layer: str) -> Verdict:
        """What it would come to if a layer were meant to enforce, and did."""
        policy = copy.copy(self.policy)
        policy.bundle = msgspec.structs.replace(
            self.policy.bundle, layers={**self.policy.bundle.layers, layer: LayerMode.ENFORCING.value}
        )
        own = self.case.machine
        layers = own.layers.model_copy(update={layer: LayerMode.ENFORCING})
        applied = policy if own.applied is self.policy else own.applied
        return self.verdict(policy, layers=layers, applied=applied)

    def under(self, estate: Estate) -> Verdict:
        """What it would come to under another estate, once the machine has it."""
        policy = Policy(compile_bundle(estate, self.groups, self.names), self.policy.device)
        applied = policy if self.case.machine.applied is self.policy else self.case.machine.applied
        return self.verdict(policy, applied=applied)

    @property
    def everywhere(self) -> Policy:
        """The policy of a machine in every group, with drafts and what is paused."""
        names = tuple(name for name in self.names if name in self.estate.named_devices)
        kept = _everywhere.of(self.estate)
        if names not in kept:
            bundle = compile_bundle(self.estate, self.estate.group_order, names, ANY_STATE)
            kept[names] = Policy(bundle, self.names[-1])
        return kept[names]

    @cached_property
    def met(self) -> list[MatchingRule]:
        """Every rule that matches, those of other groups, drafts and paused assignments too."""
        own = self.own_assignments
        matched = self.matching() if self.matched is None else self.matched
        return [MatchingRule(one, named, named.assignment in own) for one, named in matched]

    def matching(self) -> list[tuple[Contender, RuleReference]]:
        """Every rule of the estate that matches, each once, and what it is called."""
        teller, found = teller_of(self.everywhere), dict[tuple[str, int], tuple[Contender, RuleReference]]()
        for contender in matching(self.everywhere, self.case):
            named = teller.reference(contender)
            found.setdefault((named.assignment, named.rule), (contender, named))
        return list(found.values())

    @property
    def own_assignments(self) -> frozenset[str]:
        """Keys of the assignments that mean the machine, in whatever state."""
        known = _by_target.of(self.estate)
        return frozenset().union(*(known.get(target, ()) for target in (*self.groups, *self.names)))

    def assignment(self, key: str) -> Assignment:
        """An assignment of the estate."""
        return _assignments.of(self.estate)[key]

    def met_wanted(self) -> Iterator[MatchingRule]:
        """Those of them that would lead to what was expected."""
        return (one for one in self.met if one.named.action is self.action)
