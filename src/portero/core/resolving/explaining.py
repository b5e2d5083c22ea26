"""Explain an attempt: who won, who lost to whom on which rung, what was logged, and what the machine makes of it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from weakref import WeakKeyDictionary

from portero.core import sentences
from portero.core.matching.categories import CategoryIndex, Entry, look_up
from portero.core.matching.visits import parse_visit
from portero.core.nouns.action import Action, Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.verdict import (
    Blocks,
    CategoryVerdict,
    Caveat,
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
from portero.core.resolving.standing import Path, Standing, effective_filter, intended_filter, standing_caveats

MOST_LAYERS = 5_000
"""How many combinations of categories a policy's explanations are remembered for."""


class Teller:
    """Names a policy's rules and tells who lost to whom. What it told it remembers: a policy never changes."""

    def __init__(self, policy: Policy) -> None:
        self._bundle = policy.bundle
        self._references: dict[tuple[int, int], RuleReference] = {}
        self._losers: dict[str, tuple[LostRule, ...]] = {}
        self.layers: dict[tuple[str, ...], LayerVerdict] = {}
        self._policy = policy

    def reference(self, assignment: int, rule: int) -> RuleReference:
        """A rule of the bundle, named so that people find it."""
        known = self._references.get((assignment, rule))
        if known is None:
            owner = self._bundle.assignments[assignment]
            entry = next(one for one in owner.rules if one.number == rule)
            known = self._references[assignment, rule] = RuleReference(
                ruleset=owner.ruleset,
                rule=rule,
                assignment=owner.key,
                target=owner.target,
                action=Action(entry.action),
                mandatory=owner.mandatory,
                selector=f"{entry.selector_kind} {entry.selector_value}".strip(),
            )
        return known

    def lost(self, loser: Contender, winner: Contender, rung: Rung) -> LostRule:
        """The loser, with whom it lost to and why."""
        lost, won = (self.reference(one.assignment, one.rule) for one in (loser, winner))
        return LostRule(**lost.model_dump(), rung=rung, to=won, why=sentences.lost_because(lost, won, rung))

    def losers(self, category: str) -> tuple[LostRule, ...]:
        """Everybody who lost in the contest for a category."""
        known = self._losers.get(category)
        if known is None:
            known = self._losers[category] = tuple(self._all_losers(self._policy.contest(category)))
        return known

    def _all_losers(self, contest: Contest) -> Iterator[LostRule]:
        winner = contest.winner
        if winner is None:
            return
        for side in (contest.mandatory, contest.ordinary):
            for place, loser in enumerate(side):
                if loser is not winner:
                    # within its own side a rule loses to that side's winner; the side's winner loses to what stands
                    to = winner if place == 0 else side[0]
                    yield self.lost(loser, to, lost_on(loser, to))


_tellers: WeakKeyDictionary[Policy, Teller] = WeakKeyDictionary()


def _teller(policy: Policy) -> Teller:
    teller = _tellers.get(policy)
    if teller is None:
        teller = _tellers[policy] = Teller(policy)
    return teller


def explain_filter(policy: Policy, categories: Sequence[str]) -> LayerVerdict:
    """What the filter layer says about a host of these categories, with every reason."""
    teller, key = _teller(policy), tuple(categories)
    known = teller.layers.get(key)
    if known is None:
        if len(teller.layers) >= MOST_LAYERS:
            teller.layers.clear()
        known = teller.layers[key] = _explain_filter(teller, policy, key)
    return known


def _explain_filter(teller: Teller, policy: Policy, categories: tuple[str, ...]) -> LayerVerdict:
    winner = decide(policy, categories)
    lost: list[LostRule] = []
    logged: dict[tuple[int, int], RuleReference] = {}
    for category in categories:
        lost += teller.losers(category)
        contest = policy.contest(category)
        best = contest.winner
        if best is not None and winner is not None and best != winner:
            lost.append(teller.lost(best, winner, Rung.STRICTEST))
        for place in contest.logged:
            logged[place] = teller.reference(*place)
    won = teller.reference(winner.assignment, winner.rule) if winner else None
    recorded = tuple(logged[place] for place in sorted(logged))
    return LayerVerdict(
        layer=Layer.FILTER,
        verdict=Verdict(winner.verdict) if winner else Verdict.ALLOW,
        winner=won,
        why=sentences.decided_because(won, categories, recorded),
        lost=tuple(_without_twins(lost, won)),
        logged=recorded,
    )


class HostRulings:
    """What a policy says about hosts, remembered by host for as long as policy and index stay: people come back."""

    MOST = 20_000

    def __init__(self, policy: Policy, index: CategoryIndex) -> None:
        self.policy, self.index = policy, index
        self._known: dict[str, tuple[Entry, LayerVerdict]] = {}

    def of(self, host: str) -> tuple[Entry, LayerVerdict]:
        """The host's category entry and the filter layer's verdict on it."""
        known = self._known.get(host)
        if known is None:
            if len(self._known) >= self.MOST:
                self._known.clear()
            entry = categories_of(self.policy, self.index, host)
            known = self._known[host] = (entry, explain_filter(self.policy, entry.categories))
        return known


def _without_twins(lost: list[LostRule], winner: RuleReference | None) -> list[LostRule]:
    """One entry a rule: a family's rule may lose in several categories of a host, or win in one and lose in others."""
    seen: dict[tuple[str, int], LostRule] = {}
    for one in lost:
        seen.setdefault((one.assignment, one.rule), one)
    if winner is not None:
        seen.pop((winner.assignment, winner.rule), None)
    return list(seen.values())


_NO_SITE_LIST = LayerVerdict(layer=Layer.BROWSER, verdict=Verdict.ALLOW, why=sentences.NOTHING_IN_PLAY)


def _filter_layer(
    policy: Policy, categories: Sequence[str], standing: Standing, path: Path
) -> tuple[LayerVerdict, LayerVerdict, list[Caveat]]:
    """The filter layer as intended and as effective, and the caveats."""
    intended = intended_filter(policy, explain_filter(policy, categories), standing, path)
    held = explain_filter(standing.applied, categories) if standing.applied else None
    return intended, *effective_filter(policy, held, standing, path)


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
    path = Path(attempt.place, attempt.browser, visit.scheme)
    intended, effective, caveats = _filter_layer(policy, entry.categories, standing, path)
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


def blocks(policy: Policy, device: str, standing: Standing, path: Path, provenance: Mapping[str, object]) -> Blocks:
    """What a device does about each category that some rule names, intended beside effective, gaps first.

    `provenance` holds `revision`, `bundle` and `applied_bundle`.
    """
    rows = []
    named = set(policy.contests) | set(standing.applied.contests if standing.applied else ())
    caveats: list[Caveat] = standing_caveats(standing)
    for category in TAXONOMY.categories.values():
        if category.key not in named:
            continue
        intended, effective, caveats = _filter_layer(policy, (category.key,), standing, path)
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
