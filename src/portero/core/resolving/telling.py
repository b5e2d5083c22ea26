"""Who won, who lost to whom on which rung, what was logged, what was left aside: a layer's outcome in words."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator, Sequence

from portero.core import sentences
from portero.core.matching.applications import SetTest, Started
from portero.core.nouns.action import Action, Verdict
from portero.core.nouns.coverage import ListSupport
from portero.core.nouns.device import Application
from portero.core.nouns.essentials import is_essential
from portero.core.nouns.layer import Layer
from portero.core.nouns.patterns import Pattern
from portero.core.nouns.selector import Selector
from portero.core.nouns.urls import Visit
from portero.core.nouns.verdict import Aside, AsideRule, LayerVerdict, LostRule, RuleReference, Rung, ThisDevice
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.resolving.bundles import BundleRule
from portero.core.resolving.deciding import Visited, weigh, weigh_handed, weigh_sites, weigh_start
from portero.core.resolving.ladder import REPLACED, Contender, Settled, lost_on
from portero.core.resolving.policy import Frame, Policy
from portero.core.resolving.situations import Situation

MOST_LAYERS, MOST_LOSSES = 5_000, 50_000
"""How many different outcomes, and how many rules that lost to others, a policy remembers having told."""


def _ground_of(rule: BundleRule) -> str | None:
    """The ground of the category that a rule names."""
    category = TAXONOMY.categories.get(rule.selector_value) if rule.selector_kind == "category" else None
    return category.ground if category else None


class Teller:
    """Names a policy's rules and tells outcomes. What it told it remembers: a policy never changes."""

    def __init__(self, policy: Policy) -> None:
        self._policy = policy
        self._references: dict[Contender, RuleReference] = {}
        self._losses: dict[tuple[Contender, Contender, int], LostRule] = {}
        """By the rules, and by the rung: what is told by identity is found quicker."""
        self._known: dict[Hashable, LayerVerdict] = {}
        self._starts: dict[Hashable, tuple[LayerVerdict, frozenset[str]]] = {}

    def forget(self) -> None:
        """Tell every outcome anew from now on."""
        self._known.clear()
        self._starts.clear()

    def reference(self, contender: Contender) -> RuleReference:
        """A rule of the bundle, named so that people find it."""
        known = self._references.get(contender)
        if known is None:
            owner = self._policy.bundle.assignments[contender.assignment]
            rule = owner.rules[contender.rule - 1]
            known = self._references[contender] = RuleReference(
                ruleset=owner.ruleset,
                rule=rule.number,
                assignment=owner.key,
                target=ThisDevice(device=self._policy.device) if owner.target is None else owner.target,
                action=Action(rule.action),
                mandatory=owner.mandatory,
                selector=str(Selector(rule.selector_kind, rule.selector_value, rule.exact)),
                feed=owner.feed,
                ground=owner.ground or _ground_of(rule),
                address_list=owner.address_list_of(rule.number),
            )
        return known

    def _lost(self, loser: Contender, winner: Contender, rung: Rung) -> LostRule:
        key = (loser, winner, id(rung))
        known = self._losses.get(key)
        if known is None:
            lost, won = self.reference(loser), self.reference(winner)
            if len(self._losses) >= MOST_LOSSES:
                self._losses.clear()
            why = sentences.lost_because(lost, won, rung)
            known = self._losses[key] = LostRule(**dict(lost), rung=rung, to=won, why=why)
        return known

    def _losers(self, frame: Frame, contenders: Iterable[Contender], settled: Settled) -> Iterator[LostRule]:
        """Everybody who lost within a contest: to their own side's winner, and that one to the winner who stands."""
        people, winner = frame.people, settled.winner
        for contender in frame.counting([one for one in contenders if one.looseness <= 0 and one is not winner]):
            own = settled.mandatory if contender.mandatory else settled.ordinary
            to = winner if contender is own else own
            if to is not None:
                yield self._lost(contender, to, lost_on(contender, to, people))

    def _replaced(self, frame: Frame, contenders: Iterable[Contender]) -> Iterator[LostRule]:
        """The rules that an assignment which replaces weaker ones pushed out."""
        assignments = self._policy.bundle.assignments
        for contender in contenders if frame.replacers else ():
            if frame.people[contender.assignment] == REPLACED and contender.action != Action.LOG:
                lost = self.reference(contender)
                by = assignments[frame.replacers[assignments[contender.assignment].kind]]
                why = sentences.replaced_because(by.ruleset, by.target or self._policy.device)
                yield LostRule(**dict(lost), rung=Rung.REPLACED, why=why)

    def _logged(self, frame: Frame, contenders: Iterable[Contender]) -> tuple[RuleReference, ...]:
        # what only logs is looser than all that decides
        own = {one.place: one for one in frame.counting([one for one in contenders if one.looseness > 0])}
        return tuple(self.reference(own[place]) for place in sorted(own))

    def _layer(
        self,
        layer: Layer,
        winner: Contender | None,
        why: str,
        lost: tuple[LostRule, ...],
        logged: tuple[RuleReference, ...] = (),
        note: str | None = None,
    ) -> LayerVerdict:
        return LayerVerdict(
            layer=layer,
            verdict=Verdict(winner.action) if winner else Verdict.ALLOW,
            winner=self.reference(winner) if winner else None,
            why=why,
            lost=lost,
            logged=logged,
            note=note,
        )

    # --- the filter ---

    def filter(self, frame: Frame, visited: Visited) -> LayerVerdict:
        """What the filter layer's rules say of a visit, with every reason."""
        met = frame.policy.indicators.met_by(visited.visit, visited.address, visited.page)
        key = (
            frame,
            tuple(visited.categories),
            tuple(map(id, met)),
            visited.searched if frame.policy.terms else None,
            visited.media_type if frame.policy.media else None,
        )
        return self._kept(key, lambda: self._tell_filter(frame, visited, met))

    def _kept(self, key: Hashable, tell: Callable[[], LayerVerdict]) -> LayerVerdict:
        known = self._known.get(key)
        if known is None:
            if len(self._known) >= MOST_LAYERS:
                self._known.clear()
            known = self._known[key] = tell()
        return known

    def _tell_filter(self, frame: Frame, visited: Visited, met: Sequence[Contender]) -> LayerVerdict:
        outcome = weigh(frame, visited, met)
        winner, lifting = outcome.winner, outcome.lifting
        lost = list(self._losers(frame, outcome.met, outcome.indicator))
        if winner is not None and outcome.indicator.winner not in (None, winner):
            lost.append(self._lost(outcome.indicator.winner, winner, Rung.STRICTEST))
        contenders = list(outcome.met)
        for contest in outcome.contests:
            contenders += contest.contenders
            lost += self._losers(frame, contest.contenders, contest.settled)
            own, remaining = contest.settled.winner, contest.remaining
            if own is not None and own is not remaining and lifting is not None:
                lost.append(self._lost(own, lifting, Rung.LIFTED))
            if remaining is not None and winner is not None and remaining is not winner:
                lost.append(self._lost(remaining, winner, Rung.STRICTEST))
        lost += self._replaced(frame, contenders)
        logged = self._logged(frame, contenders)
        won = self.reference(winner) if winner else None
        why = sentences.decided_because(won, visited.categories, logged)
        # within one contest nobody loses twice
        several = len(outcome.contests) > 1 or bool(outcome.met)
        return self._layer(Layer.FILTER, winner, why, _once_each(lost, won) if several else tuple(lost), logged)

    # --- starts ---

    def startup(self, frame: Frame, program: Started) -> tuple[LayerVerdict, frozenset[str]]:
        """What the startup layer's rules say of a program, with every reason; and the fields that were missing."""
        key = (frame, frozenset(program.fields.items()), program.version, program.categories)
        known = self._starts.get(key)
        if known is None:
            if len(self._starts) >= MOST_LAYERS:
                self._starts.clear()
            known = self._starts[key] = self._tell_start(frame, program)
        return known

    def _tell_start(self, frame: Frame, program: Started) -> tuple[LayerVerdict, frozenset[str]]:
        outcome = weigh_start(frame, program)
        lost = [
            *self._losers(frame, outcome.contenders, outcome.settled),
            *self._replaced(frame, outcome.contenders),
        ]
        logged = self._logged(frame, outcome.logged)
        winner = outcome.settled.winner
        won = self.reference(winner) if winner else None
        why = sentences.started_because(won, logged)
        note = " ".join(filter(None, (self._left_out(frame, program), self._held_back(frame, program)))) or None
        return self._layer(Layer.STARTUP, winner, why, _once_each(lost, won), logged, note), outcome.missing

    def _left_out(self, frame: Frame, program: Started) -> str | None:
        """Which sets of rules in play leave the program out, though their include conditions hold it."""
        found = []
        for known in self._policy.programs:
            in_play = frame.people[known.assignment] < REPLACED
            if in_play and isinstance(known.test, SetTest) and known.test.leaves_out(program):
                owner = self._policy.bundle.assignments[known.assignment]
                found.append((known.rule.selector_value, f"{owner.ruleset} on {owner.target or self._policy.device}"))
        return sentences.left_out_of(found) if found else None

    def _held_back(self, frame: Frame, program: Started) -> str | None:
        """Which rules in play would stop the program, and only log it as it came later."""
        found = [
            (known, held)
            for known in self._policy.programs
            if frame.people[known.assignment] < REPLACED
            and known.fit(program).narrowness is not None
            and (held := frame.held(known, program)) is not None
        ]
        owners = self._policy.bundle.assignments
        told = []
        for known, (came, until) in found:
            owner = owners[known.assignment]
            told.append((f"{owner.ruleset} on {owner.target or self._policy.device}", came, until))
        return sentences.held_back(told) if told else None

    # --- site lists ---

    def sites(self, frame: Frame, visit: Visit, support: ListSupport) -> LayerVerdict:
        """What a browser makes of the site list that it is handed, with every reason."""
        if not self._policy.sites:
            return _NO_SITE_LIST
        merged = frame.site_list
        outcome = weigh_handed(frame, visit, support)
        meant = outcome if merged.is_handed_whole(support) else weigh_sites(frame, visit)
        winner = outcome.winner[1] if outcome.winner else None
        lost = [
            self._lost_in_browser(frame, one, winner, support)
            for one in dict.fromkeys((*outcome.matching, *meant.matching))
            if one[1] is not winner
        ]
        by_pattern: dict[Pattern, list[Contender]] = {}
        for pattern, contender in self._policy.sites_met(visit):
            by_pattern.setdefault(pattern, []).append(contender)
        for pattern, own in by_pattern.items():
            if pattern in merged.settled:
                lost += self._losers(frame, own, merged.settled[pattern])
            left = merged.settled[pattern].winner if pattern in merged.left_out else None
            if left is not None:
                lost.append(self._lost(left, merged.left_out[pattern], Rung.MANDATORY))
        if "site" in frame.replacers:
            lost += self._replaced(frame, self.matching_sites(visit))
        if not merged.patterns:
            return self._layer(Layer.BROWSER, None, sentences.NOTHING_IN_PLAY, _once_each(lost, None))
        won = self.reference(winner) if winner else None
        return self._layer(Layer.BROWSER, winner, sentences.listed_because(won), _once_each(lost, won))

    def _lost_in_browser(
        self, frame: Frame, one: tuple[Pattern, Contender], winner: Contender | None, support: ListSupport
    ) -> LostRule:
        """One that holds a visit, and does not count in a browser: another one does, or it is not handed over."""
        loser = self.reference(one[1])
        won = self.reference(winner) if winner else None
        merged = frame.site_list
        if merged.is_handed_whole(support):
            why = sentences.counts_before(won, support.family)
        else:
            handed, place = merged.handed(support), merged.place(one[0])
            if place in handed.cut:
                why = sentences.is_cut(support.limit)
            elif place in handed.changed and handed.entry_of(place) is None:
                why = sentences.is_left_out(handed.changed[place], support.family)
            else:
                why = sentences.counts_before(won, support.family)
        return LostRule(**dict(loser), rung=Rung.BROWSER, to=won, why=why)

    # --- what does not count now ---

    def matching_sites(self, visit: Visit) -> list[Contender]:
        """Every site rule that matches a visit, in play or not."""
        return [one for _, one in self._policy.sites_met(visit)]

    def left_aside(self, frame: Frame, contenders: Iterable[Contender], situation: Situation) -> tuple[AsideRule, ...]:
        """Those of the rules that would match and do not count now, each with the reason."""
        found: dict[tuple[int, int], AsideRule] = {}
        for other in contenders:
            reason = self._policy.gates.aside(other.assignment, situation)
            if reason is None and other.until is not None and frame.at >= other.until:
                reason = Aside.EXPIRED
            if reason is not None:
                named = self.reference(other)
                found[other.place] = AsideRule(**dict(named), reason=reason, why=sentences.aside_because(named, reason))
        return tuple(found[place] for place in sorted(found))


_NO_SITE_LIST = LayerVerdict(layer=Layer.BROWSER, verdict=Verdict.ALLOW, why=sentences.NOTHING_IN_PLAY)


def matching_visit(frame: Frame, visited: Visited) -> list[Contender]:
    """Every rule of the filter that matches a visit, in play or not."""
    outcome = weigh(frame, visited)
    return [*outcome.met, *(contender for contest in outcome.contests for contender in contest.contenders)]


def teller_of(policy: Policy) -> Teller:
    """The policy's teller."""
    if not isinstance(policy.teller, Teller):
        policy.teller = Teller(policy)
    return policy.teller


def startup_layer(
    policy: Policy, frame: Frame, program: Application, started: Started, user: str | None
) -> tuple[LayerVerdict, frozenset[str]]:
    """What the startup layer says of a program that a person (folded) starts, and the fields that were missing to say
    more; `started` is the program as rules look at it. Essential ones start whatever the rules say.
    """
    if is_essential(program, user):
        return LayerVerdict(layer=Layer.STARTUP, verdict=Verdict.ALLOW, why=sentences.ESSENTIAL), frozenset()
    return teller_of(policy).startup(frame, started)


def _once_each(lost: Iterable[LostRule], winner: RuleReference | None) -> tuple[LostRule, ...]:
    """One entry a rule: a family's rule may lose in several categories of a host, or win in one and lose in others."""
    seen: dict[tuple[str, int], LostRule] = {}
    for lost_rule in lost:
        seen.setdefault((lost_rule.assignment, lost_rule.rule), lost_rule)
    if winner is not None:
        seen.pop((winner.assignment, winner.rule), None)
    return tuple(seen.values())
