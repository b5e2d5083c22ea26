"""How many indicators machines carry, of how many they may."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import NamedTuple

from portero.core.nouns.assignment import State
from portero.core.nouns.estate import Estate

Groups = tuple[str, ...]


class Load(NamedTuple):
    """What machines with the same groups carry."""

    groups: Groups
    by_hand: int
    by_feed: int

    @property
    def indicators(self) -> int:
        """All of them."""
        return self.by_hand + self.by_feed


def loads(estate: Estate, combinations: Iterable[Groups]) -> list[Load]:
    """What machines of each combination of groups carry: the rules of all indicator rulesets that are put on them."""
    indicators = {ruleset.key: ruleset for ruleset in estate.rulesets if ruleset.kind == "indicator" and ruleset.rules}
    by_group: dict[str, set[str]] = {}
    for assignment in estate.assignments:
        if assignment.state is State.ACTIVE and assignment.ruleset in indicators:
            for group in assignment.groups:
                by_group.setdefault(group, set()).add(assignment.ruleset)
    known: dict[frozenset[str], tuple[int, int]] = {}
    found = []
    for groups in combinations:
        keys = frozenset().union(*(by_group[group] for group in groups if group in by_group))
        if keys not in known:
            counts = [0, 0]
            for key in keys:
                counts[indicators[key].feed is not None] += len(indicators[key].rules)
            known[keys] = (counts[0], counts[1])
        found.append(Load(groups, *known[keys]))
    return found


def heaviest(estate: Estate, combinations: Iterable[Groups]) -> Load:
    """What those machines carry that have most to carry."""
    return max(loads(estate, combinations), key=lambda load: load.indicators, default=Load((), 0, 0))


def overload(before: Estate, after: Estate, combinations: Callable[[], Iterable[Groups]]) -> str | None:
    """In words, that machines would have more to carry than they may and than before; None where they would not."""
    most = after.settings.indicator_capacity
    # where all of them together are not too many, no machine has too many
    if sum(len(ruleset.rules) for ruleset in after.rulesets if ruleset.kind == "indicator") <= most:
        return None
    combined = list(combinations())
    then = heaviest(after, combined)
    if then.indicators <= most or then.indicators <= heaviest(before, combined).indicators:
        return None
    groups = ", ".join(then.groups[:6])
    return (
        f"Machines in {groups} would have {then.indicators:,} indicators to carry ({then.by_hand:,} written by hand,"
        f" {then.by_feed:,} from feeds), and may have {most:,}. Take some out (“portero indicator clean-up” shows which"
        " have ended, are doubled or overshadowed), put fewer on these machines, or raise the capacity in the settings."
    )
