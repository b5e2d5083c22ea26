"""All findings of an estate: what contests show, and what shows by itself; the most urgent first."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Literal, NamedTuple

from portero.core import sentences, wording
from portero.core.insight.effects.subjects import Subject
from portero.core.insight.effects.world import World
from portero.core.insight.findings.alone import Alone, Put
from portero.core.insight.findings.contests import hold_contests
from portero.core.insight.findings.lacking import Lacking
from portero.core.insight.findings.lists import BrowserLists
from portero.core.insight.findings.meetings import Contests, InForce, Meeting, Tally
from portero.core.insight.findings.presence import Presence
from portero.core.insight.findings.told import MOST_RULES, HeldMembers, Told, finding, rule_at
from portero.core.insight.findings.undone import Undone
from portero.core.insight.findings.unenforceable import Unenforceable
from portero.core.matching.members import Member
from portero.core.nouns.action import STOPPING, Action
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import SEVERITIES, Finding, FindingKind, RuleAt, Severity
from portero.core.nouns.group import BUILT_IN
from portero.core.nouns.verdict import Rung


class Found(NamedTuple):
    """The findings, with their machines."""

    items: tuple[Finding, ...]
    devices: Mapping[str, Collection[Member]]
    """All devices that each finding is about, by its id."""


def find_all(
    estate: Estate,
    world: World,
    known_people: Collection[str] = (),
    rulesets: Collection[str] | None = None,
) -> Found:
    """Every finding of the estate, the most urgent first, then on the most machines.

    With `rulesets`, of the findings about rules that meet only those in which one of these rulesets has a part.
    """
    alone = Alone(estate, world, known_people)
    told = [*alone.find(), *Undone(estate, world, alone.puts).find(), *BrowserLists(estate, world).find()]
    told += Unenforceable(estate, world, alone.puts).find()
    told += [*Lacking(estate, world).find(), *Presence(estate, world).find()]
    contests = hold_contests(estate, world, world.matcher(estate), rulesets)
    met = _Judge(estate, world, alone.puts, contests).find()
    told += [put for put in met if rulesets is None or _is_about(put.finding, rulesets)]
    told.sort(key=lambda put: (SEVERITIES.index(put.finding.severity), -put.finding.devices, put.finding.id))
    items = tuple(put.finding for put in told)
    return Found(items, {put.finding.id: put.devices for put in told})


def _is_about(one: Finding, rulesets: Collection[str]) -> bool:
    if one.kind is FindingKind.SHADOWED:
        return one.rulesets[0] in rulesets
    return not set(rulesets).isdisjoint(one.rulesets)


class _Pair(NamedTuple):
    """Two assignments, each by way of one target."""

    winner: str
    winner_target: str | None
    loser: str
    loser_target: str | None


class _Judge:
    """Makes findings of what came of contests."""

    def __init__(self, estate: Estate, world: World, puts: Sequence[Put], contests: Contests) -> None:
        self._estate, self._contests = estate, contests
        self._puts = {put.assignment.key: put for put in puts}
        self._rank = {key: place for place, key in enumerate(estate.group_order)}
        self._times = Counter(assignment.ruleset for assignment in estate.assignments)
        self._told: dict[Subject, str] = {}
        self._classes: dict[str, set[tuple[str, ...]]] = defaultdict(set)
        for groups in world.classes:
            for key in groups:
                self._classes[key].add(groups)

    def find(self) -> Iterator[Told]:
        """All of them."""
        yield from self._contradictions()
        yield from self._opened()
        yield from self._softened()
        yield from self._disagreeing()
        yield from self._shadowed()

    def _words(self, in_force: InForce) -> str:
        return wording.on(in_force.ruleset, in_force.target)

    def _pairs(self, met: Mapping[Meeting, Tally]) -> dict[_Pair, list[tuple[Meeting, Tally]]]:
        pairs: dict[_Pair, list[tuple[Meeting, Tally]]] = defaultdict(list)
        for meeting, tally in met.items():
            winner, loser = meeting.winner, meeting.loser
            pairs[_Pair(winner.assignment, winner.target, loser.assignment, loser.target)].append((meeting, tally))
        return pairs

    # --- contradictions ---

    def _contradictions(self) -> Iterator[Told]:
        opposed = {one: tally for one, tally in self._contests.met.items() if self._is_opposed(one)}
        for pair, met in self._pairs(opposed).items():
            winner, loser = met[0][0].winner, met[0][0].loser
            devices, subjects = self._joined(met)
            hard = [one for one, _ in met if Action.ALLOW in (one.winner.action, one.loser.action)]
            first = (hard or [met[0][0]])[0]
            yield finding(
                FindingKind.CONTRADICTION,
                Severity.MEDIUM if hard else Severity.LOW,
                _about(pair),
                sentences.contradiction(
                    self._words(winner),
                    self._words(loser),
                    first.winner.action.value,
                    first.loser.action.value,
                    subjects,
                    len(devices),
                ),
                assignments=(pair.winner, pair.loser),
                rulesets=tuple(dict.fromkeys((winner.ruleset, loser.ruleset))),
                groups=tuple(key for key in (pair.winner_target, pair.loser_target) if key),
                rules=self._rules(met, "winner", "loser"),
                devices=devices,
                remedies=[*self._raising(pair), ("pause-assignment", {"assignment": pair.winner})],
            )

    def _is_opposed(self, meeting: Meeting) -> bool:
        """Whether two groups, neither of which is a part of the other, say different things of the same."""
        winner, loser = meeting.winner, meeting.loser
        if meeting.rung is not Rung.TARGET or winner.action is loser.action or winner.mandatory or loser.mandatory:
            return False
        stronger, weaker = winner.target, loser.target
        if stronger is None or weaker is None or stronger == weaker or weaker in BUILT_IN:
            return False
        return not self._classes[stronger] <= self._classes[weaker]

    def _raising(self, pair: _Pair) -> list[tuple[str, Mapping[str, str]]]:
        if pair.winner_target is None or pair.loser_target in (None, *BUILT_IN):
            return []
        return [("raise-group", {"group": str(pair.loser_target), "other": pair.winner_target})]

    # --- a group that a weaker one opens ---

    def _opened(self) -> Iterator[Told]:
        opened = {one: tally for one, tally in self._contests.met.items() if self._is_opening(one)}
        for pair, met in self._pairs(opened).items():
            winner, loser = met[0][0].winner, met[0][0].loser
            devices, subjects = self._joined(met)
            yield finding(
                FindingKind.OPENED_BY_WEAKER,
                Severity.HIGH,
                _about(pair),
                sentences.opened(self._words(loser), self._words(winner), subjects, len(devices)),
                assignments=(pair.loser, pair.winner),
                rulesets=(loser.ruleset, winner.ruleset),
                groups=tuple(key for key in (pair.loser_target, pair.winner_target) if key),
                rules=self._rules(met, "loser", "winner"),
                devices=devices,
                remedies=[("replace-weaker", {"assignment": pair.loser})],
            )

    def _is_opening(self, meeting: Meeting) -> bool:
        winner, loser = meeting.winner, meeting.loser
        if winner.action is not Action.ALLOW or loser.action not in STOPPING or winner.mandatory or loser.mandatory:
            return False
        if meeting.rung not in (Rung.SELECTOR, Rung.BROWSER) or winner.target is None:
            return False
        if not loser.closes:
            return False
        own = -1 if loser.target is None else self._rank[loser.target]
        return self._rank[winner.target] > own

    # --- a warn that softens a block; layers that disagree ---

    def _softened(self) -> Iterator[Told]:
        for pair, met in self._pairs(self._contests.softened).items():
            winner, loser = met[0][0].winner, met[0][0].loser
            devices, subjects = self._joined(met)
            yield finding(
                FindingKind.SOFTENED,
                Severity.MEDIUM,
                _about(pair),
                sentences.softened(self._words(winner), self._words(loser), subjects, len(devices)),
                assignments=(pair.winner, pair.loser),
                rulesets=(winner.ruleset, loser.ruleset),
                # the warns alone: the remedies change those
                rules=self._rules(met, "winner"),
                devices=devices,
                remedies=[
                    ("block-too", {"ruleset": winner.ruleset}),
                    ("remove-rules", {"ruleset": winner.ruleset}),
                ],
            )

    def _disagreeing(self) -> Iterator[Told]:
        for pair, met in self._pairs(self._contests.disagreeing).items():
            listing, allowing = met[0][0].winner, met[0][0].loser
            devices, subjects = self._joined(met)
            yield finding(
                FindingKind.LAYERS_DISAGREE,
                Severity.MEDIUM,
                _about(pair),
                sentences.layers_disagree(self._words(listing), self._words(allowing), subjects, len(devices)),
                assignments=(pair.winner, pair.loser),
                rulesets=(listing.ruleset, allowing.ruleset),
                rules=self._rules(met, "loser"),
                devices=devices,
                remedies=[("remove-allow", {"ruleset": allowing.ruleset})],
            )

    # --- what can never win ---

    def _shadowed(self) -> Iterator[Told]:
        contests = self._contests
        losing: dict[str, dict[int, int]] = defaultdict(dict)
        for (key, number), where in contests.in_play.items():
            if (key, number) not in contests.winning:
                losing[key][number] = where
        beating: dict[str, list[tuple[Meeting, Tally]]] = defaultdict(list)
        for meeting, tally in contests.met.items() if losing else ():
            beating[meeting.loser.assignment].append((meeting, tally))
        for key, rules in losing.items():
            put = self._puts[key]
            deciding = [number for number, rule in enumerate(put.ruleset.rules, 1) if rule.action is not Action.LOG]
            whole = set(deciding) <= set(rules)
            beaten: Counter[tuple[str, Rung]] = Counter()
            for meeting, tally in beating[key]:
                for (shape, _, slot), where in tally.about.items():
                    if number := len(rules.keys() & shape.numbers(slot)):
                        beaten[self._words(meeting.winner), meeting.rung] += number * contests.sorts.number(where)
            devices = contests.devices(rules.values())
            numbers = sorted(rules)
            words = [sentences.selector_words(put.ruleset.rules[number - 1]) for number in numbers]
            by = [one for one, _ in beaten.most_common(3)]
            removing = ("remove-rules", {"ruleset": put.ruleset.key})
            yield finding(
                FindingKind.SHADOWED,
                Severity.MEDIUM if whole else Severity.LOW,
                (key,),
                sentences.shadowed(put.words, words, whole, by, len(devices)),
                assignments=(key,),
                rulesets=(put.ruleset.key,),
                groups=put.assignment.groups,
                rules=[rule_at(put.ruleset, number) for number in numbers],
                devices=devices,
                remedies=put.removing if whole else [removing] if self._is_once(put) else [],
            )

    def _is_once(self, put: Put) -> bool:
        """Whether its ruleset is assigned nowhere else: what is idle here may count there."""
        return self._times[put.ruleset.key] == 1

    def _joined(self, met: Sequence[tuple[Meeting, Tally]]) -> tuple[HeldMembers, list[str]]:
        subjects = dict.fromkeys(subject for _, tally in met for subject in tally.subjects())
        words = dict.fromkeys(map(self._subject_words, subjects))
        return self._contests.devices(tally.where for _, tally in met), list(words)

    def _subject_words(self, subject: Subject) -> str:
        known = self._told.get(subject)
        if known is None:
            known = self._told[subject] = sentences.subject_words(subject.kind, subject.name)
        return known

    def _rules(self, met: Sequence[tuple[Meeting, Tally]], *sides: Literal["winner", "loser"]) -> list[RuleAt]:
        """The rules of a side, as many as a finding names."""
        found: dict[tuple[str, int], None] = {}
        for meeting, tally in met:
            for numbers in tally.rules():
                for side in sides:
                    found[getattr(meeting, side).ruleset, numbers[side == "loser"]] = None
                if len(found) >= MOST_RULES:
                    break
        return [rule_at(self._estate.ruleset_by_key[ruleset], number) for ruleset, number in found]


def _about(pair: _Pair) -> tuple[str, ...]:
    return pair.winner, pair.loser, pair.winner_target or "machine", pair.loser_target or "machine"
