"""The gate: the probes that every change must pass, tried on what the estate means before it and after it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from portero.core.insight.effects.world import World
from portero.core.insight.intentions import Intentions, counting
from portero.core.insight.predicting import Numbered, numbered, shortfall
from portero.core.matching.categories import CategoryIndex
from portero.core.matching.classes import Groups
from portero.core.matching.members import Member
from portero.core.nouns.action import Verdict
from portero.core.nouns.assignment import Target
from portero.core.nouns.estate import Estate
from portero.core.nouns.preview import GateFailure
from portero.core.nouns.verdict import Intended
from portero.core.sentences import runs as words

FEW = 5
"""So many machines are named as examples."""


def gated(estate: Estate) -> list[Numbered]:
    """The probes of the estate's gate."""
    sets = {one.key: one for one in estate.probe_sets}
    return numbered(sets[key] for key in estate.settings.gate if key in sets)


def taken_out(before: Estate, after: Estate) -> list[Numbered]:
    """The probes that a change takes out of the gate, or alters."""
    if before.settings.gate == after.settings.gate and before.probe_sets is after.probe_sets:
        return []
    left = {_asked(one) for one in gated(after)}
    return [one for one in gated(before) if _asked(one) not in left]


def _asked(one: Numbered) -> tuple[str, str, frozenset[Target]]:
    """What a probe asks, whatever it is called and wherever it stands."""
    return one.set.key, one.probe.model_dump_json(exclude={"name", "to"}), frozenset(one.set.targets_of(one.probe))


def failures(
    before: Estate, after: Estate, moved: Mapping[str, Groups], world: World, index: CategoryIndex
) -> list[GateFailure]:
    """The probes of the gate that come out on fewer machines after a change than before it. `moved` gives the groups
    of those devices that would have others, by id.
    """
    probes = gated(after)
    if not probes:
        return []
    pairs = world.classes.moving(moved)
    meant = [Intentions(estate, probes, world, index) for estate in (before, after)]
    found = (_failure(one, pairs, *meant) for one in probes)
    return [one for one in found if one is not None]


def _failure(
    one: Numbered,
    pairs: Mapping[tuple[Groups, Groups], Sequence[Member]],
    before: Intentions,
    after: Intentions,
) -> GateFailure | None:
    failing: list[Member] = []
    told: tuple[Verdict, Intended] | None = None
    for (had, has), members in pairs.items():
        for member in counting(one, has, members):
            then = after.of(one, has, member)
            if then is None or shortfall(one.probe, then.verdict, then.layers) is None:
                continue
            now = before.of(one, had, member)
            if now is not None and shortfall(one.probe, now.verdict, now.layers) is None:
                failing.append(member)
                told = told or (now.verdict, then)
    if told is None:
        return None
    was, then = told
    return GateFailure(
        set=one.set.key,
        number=one.number,
        name=one.probe.name,
        tried=one.probe.tried,
        expected=one.probe.expect,
        before=was,
        after=then.verdict,
        devices=len(failing),
        examples=tuple(sorted(member.facts.hostname for member in failing)[:FEW]),
        rule=next((layer.winner for layer in then.layers if layer.winner and layer.verdict is then.verdict), None),
        sentence=words.gate_failure(one.set.key, one.number, one.probe, was, then, len(failing)),
    )
