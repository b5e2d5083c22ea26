"""What a state of the estate means to become of a subject, on all devices and occasions at once: one word, and by
which rule.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import chain
from typing import NamedTuple

from portero.core.insight.effects.bouts import Bout
from portero.core.insight.effects.kernel import RUNGS, Entrant, Kernel, Playing, settled, who_won
from portero.core.insight.effects.matcher import Matcher
from portero.core.insight.effects.merged_sites import MergedSites
from portero.core.insight.effects.occasions import Occasions, any_of
from portero.core.insight.effects.sorts import Sides
from portero.core.insight.effects.subjects import Subject
from portero.core.nouns.action import STRICTNESS, Action
from portero.core.nouns.layer import LAYERS, Layer, LayerMode
from portero.core.resolving.deciding import decide_where
from portero.core.resolving.ladder import Contender, InPlay, first_where, without


class Ruling(NamedTuple):
    """Allow, warn or block; or log, where it is let through and recorded. And the layer and the rule that say so."""

    word: Action
    layer: Layer | None = None
    by: Entrant | None = None


Ruled = tuple[Ruling, int, int]
"""What becomes of a subject when and where."""
ALLOWED = Ruling(Action.ALLOW)
_RANK = {action: -STRICTNESS[action] for action in (Action.ALLOW, Action.WARN, Action.BLOCK)} | {Action.LOG: -0.5}


class Rulings:
    """Rules on subjects under one state of the estate."""

    def __init__(self, kernel: Kernel, matcher: Matcher) -> None:
        self.kernel, self._matcher = kernel, matcher
        self._modes: dict[str, dict[LayerMode, int]] = {layer: kernel.in_mode(layer) for layer in LAYERS}

    def bout(self, subject: Subject) -> Bout:
        """The contests over a subject."""
        shown = self._matcher.show(subject)
        return Bout(self.kernel, self._matcher, shown, self._matcher.meet(shown))

    def rule(self, bout: Bout, occasions: Occasions, sides: Sides) -> list[Ruled]:
        """What becomes of the subject on the devices of some sides, on every occasion."""
        rows = [] if bout.shown.essential else list(self._rows(bout, occasions, sides))
        # the stricter; of what is equally strict what some rule says, and the layers in order
        rows.sort(key=lambda row: _RANK[row[0].word])
        return list(
            first_where([*rows, (ALLOWED, occasions.ever, any_of(side.where for side in sides))], occasions.ever)
        )

    def _rows(self, bout: Bout, occasions: Occasions, sides: Sides) -> Iterator[Ruled]:
        if bout.shown.started is not None:
            (contest,) = bout.others
            playing = self.kernel.playing(contest, occasions, sides)
            won = ((one.winner, when, where) for one, when, where in settled(playing, occasions) if one.winner)
            yield from self._in_modes(bout, Layer.STARTUP, list(won))
            held = self.kernel.held_back(contest, occasions, sides)
            yield from self._logged(Layer.STARTUP, [*_only_logging(playing), *held])
            return
        yield from self._in_modes(bout, Layer.BROWSER, self._listed(bout, occasions, sides))
        gateway = (occasions.on_site, self.kernel.sorts.behind_gateway)
        indicators = self.kernel.playing(bout.indicators, occasions, sides)
        others = [self.kernel.playing(contest, occasions, sides) for contest in bout.others]
        decided = decide_where(
            settled(indicators, occasions), [settled(one, occasions) for one in others], RUNGS, occasions.ever
        )
        beside = ((one, *left) for one, when, where in decided for left in without([(when, where)], [gateway]))
        yield from self._in_modes(bout, Layer.FILTER, list(beside))
        for ruling, when, where in self._logged(Layer.FILTER, _only_logging(chain(indicators, *others))):
            yield from ((ruling, *left) for left in without([(when, where)], [gateway]))

    def _in_modes(self, bout: Bout, layer: Layer, won: Sequence[tuple[Contender, int, int]]) -> Iterator[Ruled]:
        modes = self._modes[layer]
        for winner, when, where in won:
            by = bout.entrants[winner]
            if enforced := where & modes.get(LayerMode.ENFORCING, 0):
                yield Ruling(Action(winner.action), layer, by), when, enforced
            if winner.action != Action.ALLOW and (observed := where & modes.get(LayerMode.OBSERVING, 0)):
                yield Ruling(Action.LOG, layer, by), when, observed

    def _logged(self, layer: Layer, playing: Sequence[Playing]) -> Iterator[Ruled]:
        """What is only recorded, where the layer does not stand still."""
        still = self._modes[layer].get(LayerMode.OFF, 0)
        for one in sorted(playing, key=lambda one: one.entrant.contender.place):
            if where := one.where & ~still:
                yield Ruling(Action.LOG, layer, one.entrant), one.when, where

    def _listed(self, bout: Bout, occasions: Occasions, sides: Sides) -> Sequence[InPlay]:
        """Which site patterns count in browsers."""
        won = [
            (pattern, who_won(settled(self.kernel.playing(contest, occasions, sides), occasions)))
            for pattern, contest in bout.sites
        ]
        return MergedSites(won).counting if won else ()


def _only_logging(playing: Iterable[Playing]) -> list[Playing]:
    return [one for one in playing if one.entrant.contender.action == Action.LOG]
