"""Two states of the estate over one fleet, on the same occasions."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import product
from typing import NamedTuple

from portero.core.insight.effects.bouts import Bout, touched_in
from portero.core.insight.effects.kernel import Kernel
from portero.core.insight.effects.matcher import Matcher
from portero.core.insight.effects.occasions import Occasions, Timeline, together
from portero.core.insight.effects.rulings import Ruled, Ruling, Rulings
from portero.core.insight.effects.sorts import Crowd, Sorts
from portero.core.insight.effects.subjects import Subject
from portero.core.insight.effects.world import World
from portero.core.matching.classes import Groups
from portero.core.matching.members import Member
from portero.core.nouns.action import Action
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import LAYERS, LayerMode


class Shift(NamedTuple):
    """A subject gets another word, when and where."""

    was: Ruling
    then: Ruling
    when: int
    where: int
    occasions: Occasions


class Comparison:
    """What becomes of subjects under one state, beside what does under another."""

    def __init__(
        self,
        states: Sequence[Estate],
        matchers: Sequence[Matcher],
        pairs: Mapping[tuple[Groups, Groups], list[Member]],
        world: World,
    ) -> None:
        """`matchers` are those of the states; `pairs` has the devices by their groups under each."""
        crowd, timeline = Crowd(states, world.classes, pairs), Timeline(states, world.directory, world.now)
        self.rulings = [
            Rulings(Kernel(estate, Sorts(crowd, state), world.directory, world.now, timeline), matcher)
            for state, (estate, matcher) in enumerate(zip(states, matchers, strict=True))
        ]
        self._kernel = self.rulings[0].kernel
        self._elsewhere = self._differing_layers()
        """Sorts of devices whose layers do something else, or that leave it to a gateway."""

    def shifts(self, subject: Subject) -> Iterator[Shift]:
        """Where and when a subject gets another word; no occasion on a device is in two of them."""
        bouts = [ruling.bout(subject) for ruling in self.rulings]
        touched = self._touched(*bouts)
        bouts = [bout.on(touched) for bout in bouts]
        contests = [contest for bout in bouts for contest in bout.contests]
        for sides in self._kernel.alike(contests, touched):
            occasions = self._kernel.occasions(contests, sides)
            was, then = (ruling.rule(bout, occasions, sides) for ruling, bout in zip(self.rulings, bouts, strict=True))
            for old, new, on, where in _shifting(was, then):
                yield Shift(old, new, on, where, occasions)

    def _touched(self, before: Bout, after: Bout) -> int:
        """The sorts of devices on which something that counts for a subject is another."""
        if before.shown != after.shown or len(before.contests) != len(after.contests):
            return -1
        touched = self._elsewhere
        for old, new in zip(before.contests, after.contests, strict=True):
            touched |= touched_in(old, new)
        return touched

    def _differing_layers(self) -> int:
        before, after = self.rulings
        differing = before.kernel.sorts.behind_gateway ^ after.kernel.sorts.behind_gateway
        for layer in LAYERS:
            was, then = before.kernel.in_mode(layer), after.kernel.in_mode(layer)
            for mode in LayerMode:
                differing |= was.get(mode, 0) ^ then.get(mode, 0)
        return differing

    def members(self, where: int) -> list[list[Member]]:
        """The devices of some sorts, sort by sort."""
        return self._kernel.sorts.members(where)

    def number(self, where: int) -> int:
        """How many devices are of some sorts."""
        return self._kernel.sorts.number(where)


def _shifting(was: Sequence[Ruled], then: Sequence[Ruled]) -> Iterator[tuple[Ruling, Ruling, int, int]]:
    """Where and when one word gives way to another, and by which rulings."""
    old, new = _by_word(was), _by_word(then)
    for word, others in product(old, new):
        if word is others:
            continue
        mine, theirs = old[word], new[others]
        for on, where in _meeting(mine.merged, theirs.merged):
            # nearly everywhere the word stays: only where it does not is looked at ruling by ruling
            before, after = (_within(side.rulings, on, where) for side in (mine, theirs))
            for one, when, there in before:
                for other, whenever, at in after:
                    if (both_at := there & at) and (both := when & whenever):
                        yield one, other, both, both_at


class _Said(NamedTuple):
    """Where and when a word is said: by which rulings, and by any of them."""

    rulings: list[Ruled]
    merged: list[tuple[int, int]]


def _by_word(ruled: Sequence[Ruled]) -> dict[Action, _Said]:
    found: dict[Action, list[Ruled]] = {}
    for one in ruled:
        found.setdefault(one[0].word, []).append(one)
    return {
        word: _Said(some, [*together((when, where) for _, when, where in some).items()]) for word, some in found.items()
    }


def _meeting(some: Sequence[tuple[int, int]], others: Sequence[tuple[int, int]]) -> Iterator[tuple[int, int]]:
    for when, where in some:
        for then, there in others:
            if (at := where & there) and (both := when & then):
                yield both, at


def _within(ruled: Sequence[Ruled], on: int, where: int) -> list[Ruled]:
    return [(one, both, at) for one, when, there in ruled if (at := there & where) and (both := when & on)]
