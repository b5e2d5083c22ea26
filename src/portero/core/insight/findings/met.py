"""Findings about rules that meet: made of what came of contests."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from itertools import chain
from typing import Any, Literal, NamedTuple

from portero.core import sentences, wording
from portero.core.insight.effects.occasions import any_of
from portero.core.insight.effects.subjects import Subject
from portero.core.insight.effects.world import World
from portero.core.insight.findings.alone import Put
from portero.core.insight.findings.meetings import Contests, InForce, Kind, Meeting, Pair, Parted, Shape, ShapeOutcome
from portero.core.insight.findings.told import MOST_RULES, Told, finding, rule_at
from portero.core.nouns.action import Action
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import FindingKind, RuleAt, Severity
from portero.core.nouns.group import BUILT_IN
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.verdict import Rung


class _Over(NamedTuple):
    """Rules that met over the subjects of a shape, by their slots there, and on which sorts of devices."""

    shape: Shape
    meeting: Meeting
    winner: int
    loser: int
    where: int


_MakesOfPair = Callable[[Pair, Sequence[_Over]], Iterable[Told]]


class _Kept(NamedTuple):
    """Findings, and what they were made of."""

    state: object
    disturbed: int
    objects: Sequence[object]
    facts: Hashable
    parts: Sequence[Parted]
    told: Sequence[Told]

    def is_of(self, other: _Kept) -> bool:
        """Whether the same is made of the other one."""
        if self.state != other.state or self.facts != other.facts or len(self.parts) != len(other.parts):
            return False
        if any(mine is not theirs for mine, theirs in zip(self.objects, other.objects, strict=True)):
            return False
        for (shape, about), (other_shape, other_about) in zip(self.parts, other.parts, strict=True):
            if shape is not other_shape or (about is not other_about and about != other_about):
                return False
        disturbed = self.disturbed | other.disturbed
        # of other machines, wherever some have moved
        return not disturbed or not any(where & disturbed for _, about in self.parts for where in about.values())


class _Losing(NamedTuple):
    """Findings about an assignment of which some rules win nowhere, and what they were made of."""

    assignment: Assignment
    facts: Hashable
    told: Sequence[Told]


class _Round(NamedTuple):
    """All that was made the last time, and of what."""

    made_of: tuple[object, ...]
    rulesets: Sequence[Ruleset]
    held: Sequence[tuple[Shape, ShapeOutcome]]
    of_pairs: Mapping[tuple[Kind, Pair], Sequence[Told]] = {}
    losing: Mapping[str, _Losing] = {}

    def is_of(self, other: _Round) -> bool:
        """Whether only what came of contests may be another."""
        same = self.made_of == other.made_of and len(self.rulesets) == len(other.rulesets)
        return same and all(mine is theirs for mine, theirs in zip(self.rulesets, other.rulesets, strict=True))

    def changed(self, other: _Round) -> list[ShapeOutcome]:
        """What came of contests in one of the two rounds alone."""
        mine, theirs = ({(id(shape), id(outcome)) for shape, outcome in one.held} for one in (self, other))
        gone = [outcome for shape, outcome in self.held if (id(shape), id(outcome)) not in theirs]
        return gone + [outcome for shape, outcome in other.held if (id(shape), id(outcome)) not in mine]


class Met:
    """Makes findings of what came of contests. Those of which nothing is another are kept."""

    def __init__(self, estate: Estate, world: World, puts: Sequence[Put], contests: Contests) -> None:
        self._estate, self._outcomes, self._contests = estate, world.outcomes, contests
        self._state = (contests.fleet, world.state)
        self._puts = {put.assignment.key: put for put in puts}
        self._rank = {key: place for place, key in enumerate(estate.group_order)}
        self._times = Counter(assignment.ruleset for assignment in estate.assignments)
        self._subjects: dict[Subject, str] = {}
        self._rules_told: dict[tuple[str, int], RuleAt] = {}
        self._parts: dict[tuple[str, str], bool] = {}
        self._classes: dict[str, set[tuple[str, ...]]] = defaultdict(set)
        for groups in world.classes:
            for key in groups:
                self._classes[key].add(groups)

    def find(self) -> Iterator[Told]:
        """All of them."""
        disturbed = self._contests.sorts.disturbed
        made_of = (self._state, self._estate.group_order, disturbed)
        now = _Round(made_of, self._estate.rulesets, self._contests.held)
        before: _Round | None = self._outcomes.get("round")
        if before is None or not before.is_of(now):
            now = now._replace(of_pairs=self._of_pairs(None), losing=self._losing({}, None))
        else:
            changed = before.changed(now)
            of_pairs = {key: told for key, told in {**before.of_pairs, **self._of_pairs(changed)}.items() if told}
            now = now._replace(of_pairs=of_pairs, losing=self._losing(before.losing, changed))
        if not disturbed:
            self._outcomes.keep("round", now)
        yield from chain.from_iterable(now.of_pairs.values())
        yield from chain.from_iterable(one.told for one in now.losing.values())

    def _of_pairs(self, changed: Sequence[ShapeOutcome] | None) -> dict[tuple[Kind, Pair], Sequence[Told]]:
        """What is made of pairs of assignments: of all, or of those of which something else came."""
        makers: dict[Kind, _MakesOfPair] = {
            "met": self._opposed,
            "softened": self._softened,
            "disagreeing": self._disagreeing,
        }
        told: dict[tuple[Kind, Pair], Sequence[Told]] = {}
        for kind, make in makers.items():
            stale = None if changed is None else set().union(*(outcome.by_pair[kind] for outcome in changed))
            told |= {(kind, pair): () for pair in stale or ()}
            for pair, parts in self._contests.pairs(kind, stale).items():
                told[kind, pair] = self._of_pair(kind, pair, parts, make)
        return told

    def _of_pair(self, kind: Kind, pair: Pair, parts: Sequence[Parted], make: _MakesOfPair) -> Sequence[Told]:
        rulesets = self._puts[pair.winner].ruleset, self._puts[pair.loser].ruleset
        facts = self._is_part(pair), self._is_weaker(pair)
        return self._kept((kind, pair), rulesets, facts, parts, lambda over: make(pair, over))

    def _kept(
        self,
        about: Hashable,
        objects: Sequence[object],
        facts: Hashable,
        parts: Sequence[Parted],
        make: Callable[[list[_Over]], Iterable[Told]],
    ) -> Sequence[Told]:
        """Findings; made anew only where something of which it is made is another: `objects` are told by identity,
        `facts` by value.
        """
        # beside the fleet as it is, what it would be is kept by itself
        key = ("finding", about, bool(self._contests.sorts.disturbed))
        made_of = _Kept(self._state, self._contests.sorts.disturbed, objects, facts, parts, ())
        known: _Kept | None = self._outcomes.get(key)
        if known is None or not made_of.is_of(known):
            over = [
                _Over(shape, meeting, winner, loser, where)
                for shape, met in parts
                for (meeting, winner, loser), where in met.items()
            ]
            known = made_of._replace(told=tuple(make(over)))
            self._outcomes.keep(key, known)
        return known.told

    def _opposed(self, pair: Pair, over: Sequence[_Over]) -> Iterator[Told]:
        """Of two assignments that say different things."""
        if not self._is_part(pair) and (met := [one for one in over if one.meeting.opposes]):
            yield self._contradiction(pair, met)
        if self._is_weaker(pair) and (met := [one for one in over if one.meeting.opens]):
            yield self._opened(pair, met)

    # --- contradictions ---

    def _contradiction(self, pair: Pair, met: Sequence[_Over]) -> Told:
        winner, loser = met[0].meeting.winner, met[0].meeting.loser
        hard = [one for one in met if Action.ALLOW in (one.meeting.winner.action, one.meeting.loser.action)]
        first = (hard or met)[0].meeting
        actions = first.winner.action.value, first.loser.action.value
        return self._told(
            FindingKind.CONTRADICTION,
            Severity.MEDIUM if hard else Severity.LOW,
            pair,
            met,
            partial(sentences.contradiction, _words(winner), _words(loser), *actions),
            assignments=(pair.winner, pair.loser),
            rulesets=tuple(dict.fromkeys((winner.ruleset, loser.ruleset))),
            groups=tuple(key for key in (pair.winner_target, pair.loser_target) if key),
            rules=self._rules(met, "winner", "loser"),
            remedies=[*_raising(pair), ("pause-assignment", {"assignment": pair.winner})],
        )

    def _is_part(self, pair: Pair) -> bool:
        """Whether the stronger target is a part of the weaker one, so that it may well say something else."""
        stronger, weaker = pair.winner_target, pair.loser_target
        if stronger is None or weaker is None or stronger == weaker or weaker in BUILT_IN:
            return True
        known = self._parts.get((stronger, weaker))
        if known is None:
            known = self._parts[stronger, weaker] = self._classes[stronger] <= self._classes[weaker]
        return known

    # --- a group that a weaker one opens ---

    def _opened(self, pair: Pair, met: Sequence[_Over]) -> Told:
        winner, loser = met[0].meeting.winner, met[0].meeting.loser
        return self._told(
            FindingKind.OPENED_BY_WEAKER,
            Severity.HIGH,
            pair,
            met,
            partial(sentences.opened, _words(loser), _words(winner)),
            assignments=(pair.loser, pair.winner),
            rulesets=(loser.ruleset, winner.ruleset),
            groups=tuple(key for key in (pair.loser_target, pair.winner_target) if key),
            rules=self._rules(met, "loser", "winner"),
            remedies=[("replace-weaker", {"assignment": pair.loser})],
        )

    def _is_weaker(self, pair: Pair) -> bool:
        """Whether the winner is put on a weaker group than the loser."""
        if pair.winner_target is None:
            return False
        return pair.loser_target is None or self._rank[pair.winner_target] > self._rank[pair.loser_target]

    # --- a warn that softens a block; layers that disagree ---

    def _softened(self, pair: Pair, met: Sequence[_Over]) -> Iterator[Told]:
        winner, loser = met[0].meeting.winner, met[0].meeting.loser
        warning = {"ruleset": winner.ruleset}
        yield self._told(
            FindingKind.SOFTENED,
            Severity.MEDIUM,
            pair,
            met,
            partial(sentences.softened, _words(winner), _words(loser)),
            assignments=(pair.winner, pair.loser),
            rulesets=(winner.ruleset, loser.ruleset),
            # the warns alone: the remedies change those
            rules=self._rules(met, "winner"),
            remedies=[("block-too", warning), ("remove-rules", warning)],
        )

    def _disagreeing(self, pair: Pair, met: Sequence[_Over]) -> Iterator[Told]:
        listing, allowing = met[0].meeting.winner, met[0].meeting.loser
        yield self._told(
            FindingKind.LAYERS_DISAGREE,
            Severity.MEDIUM,
            pair,
            met,
            partial(sentences.layers_disagree, _words(listing), _words(allowing)),
            assignments=(pair.winner, pair.loser),
            rulesets=(listing.ruleset, allowing.ruleset),
            rules=self._rules(met, "loser"),
            remedies=[("remove-allow", {"ruleset": allowing.ruleset})],
        )

    def _told(
        self,
        kind: FindingKind,
        severity: Severity,
        pair: Pair,
        met: Sequence[_Over],
        say: Callable[[list[str], int], str],
        **more: Any,
    ) -> Told:
        """A finding about two assignments; `say` says it of some subjects on so many machines."""
        shapes = dict.fromkeys(one.shape for one in met)
        words = dict.fromkeys(self._subject_words(subject) for shape in shapes for subject in shape.subjects)
        devices = self._contests.devices(any_of(one.where for one in met))
        return finding(kind, severity, _about(pair), say(list(words), len(devices)), devices=devices, **more)

    # --- what can never win ---

    def _losing(self, before: Mapping[str, _Losing], changed: Sequence[ShapeOutcome] | None) -> dict[str, _Losing]:
        """What is made of rules that win nowhere, by the assignment; what was made `before` stays where nothing that it
        is about is another.
        """
        losing = self._contests.losing({key: put.ruleset.key for key, put in self._puts.items()})
        stale = set().union(*(outcome.by_loser for outcome in changed or ()))
        found: dict[str, _Losing] = {}
        anew: dict[str, tuple[Put, Hashable]] = {}
        for key, rules in losing.items():
            put, known = self._puts[key], before.get(key)
            facts: Hashable = tuple(sorted(rules.items())), self._times[put.ruleset.key] == 1
            if known is not None and key not in stale and known.assignment is put.assignment and known.facts == facts:
                found[key] = known
            else:
                anew[key] = put, facts
        lost = self._contests.lost(anew.keys())
        for key, (put, made_of) in anew.items():
            told = self._shadowed(put, made_of, losing[key], lost.get(key, ()))
            found[key] = _Losing(put.assignment, made_of, told)
        return found

    def _shadowed(self, put: Put, facts: Hashable, rules: Mapping[int, int], lost: Sequence[Parted]) -> Sequence[Told]:
        objects = put.assignment, put.ruleset
        about = ("losing", put.assignment.key)
        return self._kept(about, objects, facts, lost, lambda over: self._never_winning(put, rules, over))

    def _never_winning(self, put: Put, rules: Mapping[int, int], over: Sequence[_Over]) -> Iterator[Told]:
        deciding = [number for number, rule in enumerate(put.ruleset.rules, 1) if rule.action is not Action.LOG]
        whole = set(deciding) <= set(rules)
        beaten: Counter[tuple[str, Rung]] = Counter()
        for one in over:
            if number := len(rules.keys() & one.shape.numbers(one.loser)):
                devices = self._contests.sorts.number(one.where)
                beaten[_words(one.meeting.winner), one.meeting.rung] += number * devices
        held = self._contests.devices(any_of(rules.values()))
        numbers = sorted(rules)
        words = [sentences.selector_words(put.ruleset.rules[number - 1]) for number in numbers]
        removing = ("remove-rules", {"ruleset": put.ruleset.key})
        # what is idle here may count where its ruleset is assigned beside
        is_once = self._times[put.ruleset.key] == 1
        yield finding(
            FindingKind.SHADOWED,
            Severity.MEDIUM if whole else Severity.LOW,
            (put.assignment.key,),
            sentences.shadowed(put.words, words, whole, [one for one, _ in beaten.most_common(3)], len(held)),
            assignments=(put.assignment.key,),
            rulesets=(put.ruleset.key,),
            groups=put.assignment.groups,
            rules=[self._rule_at(put.ruleset, number) for number in numbers],
            devices=held,
            remedies=put.removing if whole else [removing] if is_once else [],
        )

    def _subject_words(self, subject: Subject) -> str:
        known = self._subjects.get(subject)
        if known is None:
            known = self._subjects[subject] = sentences.subject_words(subject.kind, subject.name)
        return known

    def _rules(self, met: Sequence[_Over], *sides: Literal["winner", "loser"]) -> list[RuleAt]:
        """The rules of a side, as many as a finding names."""
        found: dict[tuple[str, int], None] = {}
        for one in met:
            for numbers in one.shape.rules:
                for side in sides:
                    found[getattr(one.meeting, side).ruleset, numbers[getattr(one, side)]] = None
                if len(found) >= MOST_RULES:
                    break
        return [self._rule_at(self._estate.ruleset_by_key[ruleset], number) for ruleset, number in found]

    def _rule_at(self, ruleset: Ruleset, number: int) -> RuleAt:
        known = self._rules_told.get((ruleset.key, number))
        if known is None:
            known = self._rules_told[ruleset.key, number] = rule_at(ruleset, number)
        return known


def _words(in_force: InForce) -> str:
    return wording.on(in_force.ruleset, in_force.target)


def _raising(pair: Pair) -> list[tuple[str, Mapping[str, str]]]:
    if pair.winner_target is None or pair.loser_target in (None, *BUILT_IN):
        return []
    return [("raise-group", {"group": str(pair.loser_target), "other": pair.winner_target})]


def _about(pair: Pair) -> tuple[str, ...]:
    return pair.winner, pair.loser, pair.winner_target or "machine", pair.loser_target or "machine"
