"""Site lists merged for many sorts of machines, on many occasions at once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from portero.core.nouns.action import Action
from portero.core.nouns.patterns import Pattern, hosts_above
from portero.core.resolving.ladder import InPlay, without


class MergedSites:
    """The site patterns that hold a visit, merged: which counts when and where. Each is given with who stands for it.

    As `SiteList` merges them: an ordinary pattern inside an opposite mandatory one is left out; of the others the more
    specific one counts, of equally specific ones one that allows, and the mandatory, then the earlier one is named.
    """

    def __init__(self, won: Sequence[tuple[Pattern, Sequence[InPlay]]]) -> None:
        self._mandatory = [(pattern, one) for pattern, some in won for one in some if one.contender.mandatory]
        self.left_out = [list(self._left_out(pattern, some)) for pattern, some in won]
        """For each pattern by which rules it is left out, when and where."""
        rows = []
        for (pattern, some), left_out in zip(won, self.left_out, strict=True):
            gone = [(out.when, out.where) for out in left_out]
            for one in some:
                kept = [(one.when, one.where)]
                for when, where in kept if one.contender.mandatory else without(kept, gone):
                    rows.append((pattern, InPlay(one.contender, when, where)))
        rows.sort(key=lambda row: (not row[1].contender.mandatory, row[1].contender.place))
        rows.sort(key=lambda row: (row[0].weight, row[1].contender.action != Action.ALLOW))
        self.counting: list[InPlay] = []
        """Whose pattern counts in browsers, when and where."""
        taken: list[tuple[int, int]] = []
        for _, one in rows:
            for when, where in without([(one.when, one.where)], taken):
                self.counting.append(InPlay(one.contender, when, where))
            taken.append((one.when, one.where))

    def _left_out(self, pattern: Pattern, won: Sequence[InPlay]) -> Iterator[InPlay]:
        hosts = {host: place for place, host in enumerate(hosts_above(pattern.host))}
        above = [one for one in self._mandatory if one[0].host in hosts]
        above.sort(key=lambda one: (hosts[one[0].host], one[1].contender.place))
        for one in won:
            left, allows = [(one.when, one.where)], one.contender.action == Action.ALLOW
            for other, opposite in above if not one.contender.mandatory else ():
                differs = opposite.contender.action != one.contender.action
                if not differs or not pattern.inside(other, allows, not allows):
                    continue
                for when, where in left:
                    if (both := when & opposite.when) and (at := where & opposite.where):
                        yield InPlay(opposite.contender, both, at)
                left = without(left, [(opposite.when, opposite.where)])
