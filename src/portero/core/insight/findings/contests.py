"""Who wins and who loses, rule against rule, on every class of machines in every circumstance that counts."""

from __future__ import annotations

from collections.abc import Hashable, Mapping
from typing import NamedTuple

from portero.core.insight.effects.bouts import Bout, differing
from portero.core.insight.effects.kernel import Kernel
from portero.core.insight.effects.matcher import Matcher
from portero.core.insight.effects.outcomes import MadeOf
from portero.core.insight.effects.sorts import Crowd, Sorts
from portero.core.insight.effects.world import World
from portero.core.insight.findings.contested import MetOver, contested, is_of_host
from portero.core.insight.findings.meetings import Contests, Shape, ShapeOutcome
from portero.core.insight.findings.ring import Ring
from portero.core.nouns.estate import Estate


def hold_contests(estate: Estate, world: World, matcher: Matcher) -> Contests:
    """Let all rules in force meet. A rule that no other one meets wins, and is not looked at.

    What came of them under another state is kept, and worked out again only on the sorts of devices on which something
    that counts is another now.
    """
    classes = world.classes if world.base is None else world.base
    moved = {id: (groups,) for id, groups in world.moved.items()}
    crowd = Crowd([estate], classes, {(groups,): members for groups, members in classes.items()}, moved)
    kernel = Kernel(estate, Sorts(crowd), world.directory, world.now)
    field, fleet = contested(estate, world, matcher), world.outcomes.name(kernel.sorts.key)
    found = Contests(kernel.sorts, fleet, field.alone)
    for number, (likeness, met, shape) in enumerate(field.shapes):
        world.note("Rules that meet", number, len(field.shapes))
        rules = list(met.rules.rules())
        ends = [one.until for one in rules if one.until is not None]
        made_of = kernel.made_of({*map(matcher.ruleset_of, rules)}, ends)
        key = ("contests", fleet, likeness)
        kept: _Kept | None = world.outcomes.get(key)
        same = kept.shape if kept is not None and shape.is_as(kept.shape) else shape
        if kept is None or same is shape or kept.made_of.key != made_of.key:
            reach = kernel.reach({*map(matcher.ruleset_of, rules)})
            kept = _hold(_Held(kernel, matcher, met), same, made_of, reach, kept)
            world.outcomes.keep(key, kept)
        found.held.append((same, kept.outcome))
    return found


class _Kept(NamedTuple):
    """What came of the contests over subjects of one shape: of what it was made, and where which assignments were."""

    shape: Shape
    made_of: MadeOf
    reach: Mapping[Hashable, int]
    outcome: ShapeOutcome


class _Held(NamedTuple):
    """The contests over a subject, held where that is asked for."""

    kernel: Kernel
    matcher: Matcher
    met: MetOver

    def at(self, where: int) -> ShapeOutcome:
        """What comes of them on some sorts of devices."""
        bout = Bout(self.kernel, self.matcher, self.met.shown, self.met.rules, where)
        return Ring(self.kernel, bout, not is_of_host(self.met.subject)).hold(where)


def _hold(held: _Held, shape: Shape, made_of: MadeOf, reach: Mapping[Hashable, int], kept: _Kept | None) -> _Kept:
    if kept is not None and kept.made_of.key == made_of.key:
        return kept._replace(shape=shape)
    outcome: ShapeOutcome | None = None
    if kept is not None and made_of.is_alike(kept.made_of):
        touched = differing(kept.reach, reach)
        outcome = kept.outcome.changed(touched, held.at(touched)) if touched else kept.outcome
    return _Kept(shape, made_of, reach, outcome or held.at(-1))
