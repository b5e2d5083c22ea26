"""The contests over one subject, on all devices at once."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping, Sequence
from copy import copy
from itertools import count

from portero.core.insight.effects.kernel import RUNGS, Entrant, FleetContest, Kernel
from portero.core.insight.effects.matcher import Contested, Matcher
from portero.core.insight.effects.subjects import Shown
from portero.core.nouns.patterns import Pattern
from portero.core.nouns.rule import RulesetKind
from portero.core.resolving.ladder import Contender


class Bout:
    """All contests over a subject: the indicators', the others, and those of site patterns, by pattern. Each rule has
    a slot, its place among all that match.
    """

    def __init__(self, kernel: Kernel, matcher: Matcher, shown: Shown, rules: Contested, where: int = -1) -> None:
        """On some sorts of devices."""
        self._kernel, self._matcher, self.shown, self._where = kernel, matcher, shown, where
        self.entrants: dict[Contender, Entrant] = {}
        slots = count()
        kind: RulesetKind = "category" if shown.started is None else "startup"
        self.indicators = self._contest(((next(slots), one) for one in rules.indicators), "indicator")
        self.others = [self._contest([(next(slots), one) for one in contest], kind) for contest in rules.others]
        by_pattern: dict[Pattern, list[tuple[int, Contender]]] = {}
        for pattern, contender in rules.sites:
            by_pattern.setdefault(pattern, []).append((next(slots), contender))
        self.sites = [(pattern, self._contest(some, "site")) for pattern, some in by_pattern.items()]

    def _contest(self, met: Iterable[tuple[int, Contender]], kind: RulesetKind) -> FleetContest:
        own = ((slot, self._matcher.ruleset_of(one), one) for slot, one in met)
        contest = self._kernel.contest(own, kind, self.shown.started, self._where)
        self.entrants.update((entrant.contender, entrant) for entrant in contest.entrants)
        return contest

    @property
    def contests(self) -> Sequence[FleetContest]:
        """All of them."""
        return [self.indicators, *self.others, *(contest for _, contest in self.sites)]

    def on(self, where: int) -> Bout:
        """The same contests on some sorts of devices alone."""
        other = copy(self)
        other.indicators = self.indicators.on(where)
        other.others = [contest.on(where) for contest in self.others]
        other.sites = [(pattern, contest.on(where)) for pattern, contest in self.sites]
        return other


def touched_in(before: FleetContest, after: FleetContest) -> int:
    """The sorts of devices on which something else may come of a contest than under another state: where a rule is in
    force in one of the two alone, unless a stronger one always stands above it under both.
    """
    touched = differing(before.pushing(), after.pushing())
    is_pushed = bool(before.replacing or after.replacing)
    for own, other in ((before, after), (after, before)):
        for key, one in own.entered.items():
            there = other.entered.get(key)
            if where := one.target.where & ~(there.target.where if there is not None else 0):
                touched |= where & ~_above(one, where, own, other, is_pushed)
    return touched


def _above(one: Entrant, where: int, own: FleetContest, other: FleetContest, is_pushed: bool) -> int:
    """Where a rule never wins, as a stronger one that is in force under both states always counts."""
    rule, found = one.contender, 0
    if rule.looseness > 0 or one.may_be_held:
        return 0
    strength = rule.strength(RUNGS)
    for key, above in own.entered.items():
        stronger = above.contender
        # a feed's rule does not keep one written by hand from standing
        if stronger.mandatory is not rule.mandatory or stronger.looseness > 0 or (stronger.feed and not rule.feed):
            continue
        if not above.always_counts or (is_pushed and not stronger.mandatory):
            continue
        if above.target.where & where & ~found and stronger.strength(RUNGS) < strength:
            there = other.entered.get(key)
            found |= above.target.where & (there.target.where if there is not None else 0)
    return found


def differing(before: Mapping[Hashable, int], after: Mapping[Hashable, int]) -> int:
    """The sorts of devices on which a rule is in force in one of two states alone."""
    found = 0
    for key in before.keys() | after.keys():
        found |= before.get(key, 0) ^ after.get(key, 0)
    return found
