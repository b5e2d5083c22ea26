"""Probes that a change carries: what they mean before it and after it, and the pair that is kept as its proof."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta

from pydantic import ValidationError

from portero.core.insight.effects.world import World
from portero.core.insight.intentions import Intentions, counting
from portero.core.insight.predicting import Numbered, numbered, shortfall
from portero.core.insight.quick_words import Known, QuickWordProblem, target_of
from portero.core.matching.categories import CategoryIndex
from portero.core.matching.classes import Groups
from portero.core.matching.members import Member
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import attempted
from portero.core.nouns.estate import Estate
from portero.core.nouns.faults import fault_of
from portero.core.nouns.group import WHOLE_FLEET
from portero.core.nouns.preview import Forecast
from portero.core.nouns.probe_set import Probe, ProbeSet
from portero.core.nouns.proof import Proof, ProofState, ProvedProbe
from portero.core.nouns.run import ProbeResult
from portero.core.nouns.urls import BadUrl, parse_visit
from portero.core.nouns.verdict import Intended
from portero.core.sentences import proofs as words

MOST_PROBES = 200
"""So many probes are carried by a change."""
TRIED_FOR = timedelta(days=1)
"""So long after a change its probes are tried again."""
OWN_SET = "this-change"
"""The set of the probes that are written with the change."""
HOW = "the key of a probe set, or a probe, such as “block reeltide.example on ships”"


def carried(told: Iterable[str], known: Known) -> tuple[ProbeSet, ...]:
    """The probes that words mean: the key of a probe set, or a probe each, as in “block reeltide.example on ships”.
    QuickWordProblem.
    """
    kept = {one.key: one for one in known.estate.probe_sets}
    sets, own = list[ProbeSet](), list[Probe]()
    for word in dict.fromkeys(told):
        if word in kept:
            sets.append(kept[word])
        else:
            own.append(_probe(word, known))
    found = (*sets, *([ProbeSet(key=OWN_SET, probes=tuple(own))] if own else []))
    number = sum(len(one.probes) for one in found)
    if number > MOST_PROBES:
        raise QuickWordProblem(f"these are {number:,} probes; a change carries {MOST_PROBES} at the most")
    return found


def _probe(word: str, known: Known) -> Probe:
    expected, _, rest = word.strip().partition(" ")
    what, _, where = rest.strip().partition(" on ")
    if expected not in {verdict.value for verdict in Verdict} or not what.strip():
        raise QuickWordProblem(f"“{word[:80]}” is no probe and no probe set; write {HOW}")
    tried = attempted(what.strip())
    fields = {"visit": _visited(tried["url"])} if "url" in tried else tried
    target = target_of(where.strip(), known) if where.strip() else WHOLE_FLEET
    try:
        return Probe.model_validate({**fields, "expect": expected, "to": target})
    except ValidationError as problem:
        raise QuickWordProblem(f"{word[:80]}: {fault_of(problem.errors()[0])}") from problem


def _visited(url: str) -> str:
    try:
        parse_visit(url)
    except BadUrl as problem:
        raise QuickWordProblem(str(problem)) from problem
    return url


# --- what they mean ---


def forecasts(
    before: Estate,
    after: Estate,
    sets: Sequence[ProbeSet],
    moved: Mapping[str, Groups],
    world: World,
    index: CategoryIndex,
) -> list[Forecast]:
    """What the estate means of some probes now, and would after a change. `moved` gives the groups of those devices
    that would have others, by id.
    """
    probes = numbered(sets)
    if not probes:
        return []
    pairs = world.classes.moving(moved)
    meant = [Intentions(estate, probes, world, index) for estate in (before, after)]
    return [_forecast(one, pairs, *meant) for one in probes]


def _forecast(
    one: Numbered,
    pairs: Mapping[tuple[Groups, Groups], Sequence[Member]],
    before: Intentions,
    after: Intentions,
) -> Forecast:
    devices = now = then = 0
    lacking: list[str] = []
    settling: Intended | None = None
    for (had, has), members in pairs.items():
        for member in counting(one, has, members):
            devices += 1
            now += _comes_out(one.probe, before.of(one, had, member))
            told = after.of(one, has, member)
            if _comes_out(one.probe, told):
                then += 1
            else:
                lacking.append(member.facts.hostname)
                settling = settling or told
    return Forecast(
        set=one.set.key,
        number=one.number,
        name=one.probe.name,
        tried=one.probe.tried,
        expected=one.probe.expect,
        devices=devices,
        now=now,
        then=then,
        lacking=tuple(sorted(lacking)[:5]),
        refused=then < now or (one.set.key == OWN_SET and then == now < devices),
        sentence=words.forecast(one.probe, devices, now, then, settling),
    )


def _comes_out(probe: Probe, meant: Intended | None) -> bool:
    return meant is not None and shortfall(probe, meant.verdict, meant.layers) is None


# --- the pair ---


def begun(revision: int, results: Iterable[ProbeResult], at: datetime) -> Proof:
    """The proof of a change that is just being made: what its probes come to before it."""
    probes = tuple(ProvedProbe(before=result, sentence=words.waits(result)) for result in results)
    return Proof(
        revision=revision, state="waiting", at=at, probes=probes, sentence=words.proof("waiting", len(probes), 0)
    )


def tried_again(proof: Proof, results: Iterable[ProbeResult], at: datetime) -> Proof:
    """The proof once its probes were tried again, in the same order."""
    probes = tuple(_paired(one, result, at) for one, result in zip(proof.probes, results, strict=True))
    holding = sum(one.since is not None for one in probes)
    state: ProofState = "holds" if holding == len(probes) else "ended" if at - proof.at >= TRIED_FOR else "waiting"
    return proof.model_copy(
        update={
            "state": state,
            "tried_at": at,
            "probes": probes,
            "sentence": words.proof(state, len(probes), holding),
        }
    )


def _paired(one: ProvedProbe, after: ProbeResult, at: datetime) -> ProvedProbe:
    holds = bool(after.devices) and not after.failed
    since = (one.since or at) if holds else None
    return ProvedProbe(before=one.before, after=after, since=since, sentence=words.pair(one.before, after, holds))
