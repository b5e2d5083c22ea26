"""Explain an attempt: who won, who lost to whom on which rung, what was logged, and what the machine makes of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from portero.core import sentences
from portero.core.matching.categories import CategoryIndex, Entry, look_up
from portero.core.matching.visits import parse_visit
from portero.core.nouns.action import Action, Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.device import LayerMode, Lifecycle
from portero.core.nouns.verdict import (
    Blocks,
    CategoryVerdict,
    Caveat,
    CaveatCode,
    Effective,
    Explanation,
    Intended,
    Layer,
    LayerVerdict,
    LostRule,
    RuleReference,
    Rung,
    gap_between,
)
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.resolving.deciding import Policy, decide
from portero.core.resolving.ladder import Contender, Contest, lost_on


class Standing(NamedTuple):
    """What is known of a device besides its policy: all that can keep the intended verdict from holding."""

    lifecycle: Lifecycle = Lifecycle.ENROLLED
    filter: LayerMode | None = LayerMode.ENFORCING
    applied: Policy | None = None
    current: bool = True
    """Whether the applied bundle is the newest."""


def reference(policy: Policy, assignment: int, rule: int) -> RuleReference:
    """A rule of the bundle, named so that people find it."""
    owner = policy.bundle.assignments[assignment]
    entry = next(one for one in owner.rules if one.number == rule)
    selector = f"{entry.selector_kind} {entry.selector_value}".strip()
    return RuleReference(
        ruleset=owner.ruleset,
        rule=rule,
        assignment=owner.key,
        target=owner.target,
        action=Action(entry.action),
        mandatory=owner.mandatory,
        selector=selector,
    )


def _lost(policy: Policy, loser: Contender, winner: Contender, rung: Rung) -> LostRule:
    lost, won = (reference(policy, one.assignment, one.rule) for one in (loser, winner))
    return LostRule(**lost.model_dump(), rung=rung, to=won, why=sentences.lost_because(lost, won, rung))


def _losers(policy: Policy, contest: Contest) -> list[LostRule]:
    winner = contest.winner
    lost = []
    for side in (contest.mandatory, contest.ordinary):
        for place, loser in enumerate(side):
            if loser is winner or winner is None:
                continue
            # within its own side a rule loses to that side's winner; the side's winner loses to what stands
            to = winner if place == 0 else side[0]
            lost.append(_lost(policy, loser, to, lost_on(loser, to)))
    return lost


def explain_filter(policy: Policy, categories: Sequence[str]) -> LayerVerdict:
    """What the filter layer says about a host of these categories, with every reason."""
    winner = decide(policy, categories)
    lost: list[LostRule] = []
    logged: dict[tuple[int, int], RuleReference] = {}
    for category in categories:
        contest = policy.contest(category)
        lost += _losers(policy, contest)
        best = contest.winner
        if best is not None and winner is not None and best != winner:
            lost.append(_lost(policy, best, winner, Rung.STRICTEST))
        for place in contest.logged:
            logged[place] = reference(policy, *place)
    won = reference(policy, winner.assignment, winner.rule) if winner else None
    recorded = tuple(logged[place] for place in sorted(logged))
    return LayerVerdict(
        layer=Layer.FILTER,
        verdict=Verdict(winner.verdict) if winner else Verdict.ALLOW,
        winner=won,
        why=sentences.decided_because(won, categories, recorded),
        lost=tuple(_without_twins(lost, won)),
        logged=recorded,
    )


def _without_twins(lost: list[LostRule], winner: RuleReference | None) -> list[LostRule]:
    """One entry a rule: a family's rule may lose in several categories of a host, or win in one and lose in others."""
    seen: dict[tuple[str, int], LostRule] = {}
    for one in lost:
        seen.setdefault((one.assignment, one.rule), one)
    if winner is not None:
        seen.pop((winner.assignment, winner.rule), None)
    return list(seen.values())


def _silent_layer(layer: LayerVerdict, code: CaveatCode) -> LayerVerdict:
    """The layer as it is on a machine that does not enforce it: nothing is stopped."""
    return LayerVerdict(
        layer=layer.layer,
        verdict=Verdict.ALLOW,
        why=sentences.caveat(code).detail,
        logged=layer.logged,
    )


def _standing_caveats(standing: Standing) -> list[Caveat]:
    codes = []
    if standing.lifecycle is Lifecycle.INVITED:
        codes.append(CaveatCode.NOT_ENROLLED)
    elif standing.applied is None:
        codes.append(CaveatCode.NEVER_APPLIED)
    elif not standing.current:
        codes.append(CaveatCode.STALE_BUNDLE)
    if standing.lifecycle is Lifecycle.SILENT:
        codes.append(CaveatCode.SILENT)
    return [sentences.caveat(code) for code in codes]


_NOT_ENFORCED = {LayerMode.OFF: CaveatCode.FILTER_OFF, LayerMode.OBSERVING: CaveatCode.FILTER_OBSERVING}


def _effective_filter(standing: Standing, categories: Sequence[str]) -> tuple[LayerVerdict, list[Caveat]]:
    """What the machine's filter really says, and the caveats of the machine."""
    caveats = _standing_caveats(standing)
    if standing.applied is None:
        code = caveats[0].code
        return _silent_layer(LayerVerdict(layer=Layer.FILTER, verdict=Verdict.ALLOW, why=""), code), caveats
    layer = explain_filter(standing.applied, categories)
    if standing.filter is None:
        caveats.append(sentences.caveat(CaveatCode.FACT_MISSING, Layer.FILTER))
    code_off = _NOT_ENFORCED.get(standing.filter) if standing.filter else None
    if code_off:
        caveats.append(sentences.caveat(code_off, Layer.FILTER))
        layer = _silent_layer(layer, code_off)
    return layer, caveats


_NO_SITE_LIST = LayerVerdict(layer=Layer.BROWSER, verdict=Verdict.ALLOW, why=sentences.NOTHING_IN_PLAY)


def explain(
    policy: Policy,
    attempt: Attempt,
    index: CategoryIndex,
    standing: Standing,
    *,
    revision: int | None = None,
    bundle: str | None = None,
    applied_bundle: str | None = None,
) -> Explanation:
    """The whole answer to a visit: intended by `policy` (the newest), effective by the device's standing.

    BadUrl where the attempt's URL is none that a browser would visit.
    """
    visit = parse_visit(attempt.url)
    entry = categories_of(policy, index, visit.host)
    intended = explain_filter(policy, entry.categories)
    effective, caveats = _effective_filter(standing, entry.categories)
    if visit.scheme == "https" and effective.verdict is not Verdict.ALLOW:
        caveats.append(sentences.caveat(CaveatCode.NOTICE_HIDDEN, Layer.FILTER))
    return Explanation(
        attempt=attempt,
        host=visit.host,
        categories=entry.categories,
        category_entry=entry.host,
        intended=Intended(verdict=intended.verdict, layers=(_NO_SITE_LIST, intended)),
        effective=Effective(verdict=effective.verdict, layers=(_NO_SITE_LIST, effective), caveats=tuple(caveats)),
        gap=gap_between(intended.verdict, effective.verdict),
        revision=revision,
        bundle=bundle,
        applied_bundle=applied_bundle,
    )


def categories_of(policy: Policy, index: CategoryIndex, host: str) -> Entry:
    """The host's entry as this policy's corrections and the index give it."""
    return look_up(host, index, policy.bundle.corrections)


def blocks(policy: Policy, device: str, standing: Standing, provenance: Mapping[str, object]) -> Blocks:
    """What a device does about each category that some rule names, intended beside effective, gaps first.

    `provenance` holds `revision`, `bundle` and `applied_bundle`.
    """
    rows = []
    named = set(policy.contests) | set(standing.applied.contests if standing.applied else ())
    caveats: list[Caveat] = _standing_caveats(standing)
    for category in TAXONOMY.categories.values():
        if category.key not in named:
            continue
        intended = explain_filter(policy, (category.key,))
        effective, caveats = _effective_filter(standing, (category.key,))
        rows.append(
            CategoryVerdict(
                category=category.key,
                name=category.name,
                family=TAXONOMY.family_of[category.key],
                intended=intended,
                effective=effective,
                gap=gap_between(intended.verdict, effective.verdict),
            )
        )
    rows.sort(key=lambda row: row.gap == "none")
    return Blocks(
        device=device,
        categories=tuple(rows),
        undecided=len(TAXONOMY.categories) - len(rows),
        caveats=tuple(caveats),
        **provenance,
    )
