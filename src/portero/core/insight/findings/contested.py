"""Which subjects are contested: those over which rules in force can meet, one for all that have the same shape."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Hashable, Iterator, Sequence
from typing import NamedTuple

from portero.core.insight.effects.matcher import Contested, Matcher
from portero.core.insight.effects.subjects import KnownSubjects, Shown, Subject, host_subject, subjects_of
from portero.core.insight.effects.world import World
from portero.core.insight.findings.meetings import Shape
from portero.core.nouns.action import Action, Override
from portero.core.nouns.assignment import State
from portero.core.nouns.estate import Estate
from portero.core.nouns.rule import Rule, RulesetKind
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.selector import OF_SERVICES
from portero.core.nouns.urls import UrlPattern, normal_range
from portero.core.resolving.ladder import Contender

UNNAMED, UNNAMED_PORT = "unnamed", 9


class Arena:
    """Tells which subjects are contested among the rules in force."""

    def __init__(self, estate: Estate, matcher: Matcher) -> None:
        self._matcher = matcher
        self.by_ruleset: dict[str, list[str]] = defaultdict(list)
        self._warning: set[str] = set()
        for assignment in estate.assignments:
            if assignment.state is State.ACTIVE:
                self.by_ruleset[assignment.ruleset].append(assignment.key)
                if assignment.action is Override.WARN:
                    self._warning.add(assignment.ruleset)

    def is_contested(self, met: Contested) -> bool:
        """Whether any two of the rules that match can meet."""
        patterns = [contender for _, contender in met.sites]
        if any(map(self._is_contest, (*met.others, met.indicators, patterns))):
            return True
        warns = self.warns(met)
        allows = any(indicator.action == Action.ALLOW for indicator in met.indicators)
        return (warns and any(met.others)) or (allows and bool(patterns))

    def warns(self, met: Contested) -> bool:
        """Whether some indicator may warn."""
        return any(
            indicator.action == Action.WARN or self._matcher.ruleset_of(indicator) in self._warning
            for indicator in met.indicators
        )

    def is_alone(self, ruleset: Ruleset, rule: Rule) -> bool:
        """Whether a rule meets no other one, as far as that is told without making a subject of it."""
        if ruleset.kind != "indicator" or len(self.by_ruleset[ruleset.key]) > 1:
            return False
        if rule.action is Action.WARN or ruleset.key in self._warning:
            return False
        if rule.action is Action.ALLOW and self._matcher.lists_sites:
            return False
        return self._matcher.is_lonely(rule.selector)

    def _is_contest(self, contest: Sequence[Contender]) -> bool:
        return len(contest) > 1 or any(len(self.by_ruleset[self._matcher.ruleset_of(met)]) > 1 for met in contest)

    def likeness(self, subject: Subject, shown: Shown, met: Contested) -> Hashable:
        """What is equal for subjects over which the same becomes of rules, slot by slot."""
        others = tuple(tuple((*self._slot(one), one.narrowness) for one in some) for some in met.others)
        if subject.is_start:
            # the sets that hold a program, and since when one has held it
            categories = shown.started.categories if shown.started is not None else frozenset()
            return subject, categories, others, tuple(tuple(one.rule for one in some) for some in met.others)
        order = sorted({one.narrowness for one in met.indicators})
        indicators = tuple((*self._slot(one), order.index(one.narrowness)) for one in met.indicators)
        of_host = is_of_host(subject)
        # which pattern is inside which other one is not told by their weight alone
        sites = tuple((pattern, *self._slot(one), one.rule) for pattern, one in met.sites)
        if of_host and not self.warns(met) and not sites:
            return indicators
        return indicators, others, of_host, sites

    def _slot(self, one: Contender) -> tuple[object, ...]:
        return self._matcher.ruleset_of(one), one.action, one.until, one.broad

    @property
    def key(self) -> Hashable:
        """What of the assignments counts for what is contested: which put a ruleset in force twice, which warn."""
        twice = frozenset(key for key, several in self.by_ruleset.items() if len(several) > 1)
        return frozenset(self.by_ruleset), twice, frozenset(self._warning)


class MetOver(NamedTuple):
    """A subject that is contested, and the rules that match."""

    subject: Subject
    shown: Shown
    rules: Contested


class Field(NamedTuple):
    """What is contested: in what it is alike, a subject that shows it, and all that have the same shape. And the rules
    that win as they meet nobody over some subject, by ruleset and number.
    """

    shapes: list[tuple[object, MetOver, Shape]]
    alone: frozenset[tuple[str, int]]


def contested(estate: Estate, world: World, matcher: Matcher) -> Field:
    """What is contested among the rules in force."""
    arena = Arena(estate, matcher)
    looks_at_programs = any(one.kind == "startup" and one.key in arena.by_ruleset for one in estate.rulesets)
    programs = world.programs() if looks_at_programs else None
    # kept with what is found, so that nothing else has its identity
    return matcher.once((arena.key, id(programs)), lambda: (_field(estate, world, matcher, arena), programs))[0]


def _field(estate: Estate, world: World, matcher: Matcher, arena: Arena) -> Field:
    known = KnownSubjects.of([estate], world.programs, world.catalogue)
    found: dict[object, tuple[MetOver, Shape]] = {}
    seen: set[object] = set()
    alone: set[tuple[str, int]] = set()
    for subject in dict.fromkeys(generic_subjects(estate, known, arena, alone)):
        shown = matcher.show(subject)
        met = matcher.meet(shown)
        if not arena.is_contested(met):
            alone.update((matcher.ruleset_of(one), one.rule) for one in met.rules())
            continue
        key, rules = arena.likeness(subject, shown, met), tuple(one.rule for one in met.rules())
        # of hosts and pages at which the same rules meet one is named for each choice of categories
        same = (key, rules, shown.visited.categories if shown.visited and is_of_host(subject) else subject)
        if same in seen:
            continue
        seen.add(same)
        _, shape = found.setdefault(key, (MetOver(subject, shown, met), Shape()))
        shape.subjects.append(subject)
        shape.rules.append(rules)
    return Field([(key, met, shape) for key, (met, shape) in found.items()], frozenset(alone))


def generic_subjects(
    estate: Estate, known: KnownSubjects, arena: Arena, alone: set[tuple[str, int]]
) -> Iterator[Subject]:
    """What shows each rule in force: itself, and something within it that nothing else names. Rules that meet no other
    one, as nearly all of a feed's do, are put with those that are alone.
    """
    rulesets = [ruleset for ruleset in estate.rulesets if ruleset.key in arena.by_ruleset]
    for ruleset in rulesets:
        for number, rule in enumerate(ruleset.rules, start=1):
            if arena.is_alone(ruleset, rule):
                alone.add((ruleset.key, number))
                continue
            yield from subjects_of(ruleset.kind, rule.selector, known)
            yield from _within(ruleset.kind, rule)
    if any(rule.selector.kind in OF_SERVICES for ruleset in rulesets for rule in ruleset.rules):
        for service in estate.services:
            for host in service.hosts:
                yield host_subject(host)
                yield from _at(host, f"http://{host}/{UNNAMED}", f"http://{UNNAMED}.{host}/{UNNAMED}")


def _within(kind: RulesetKind, rule: Rule) -> Iterator[Subject]:
    """What a rule holds and nothing else names: another page, another host below, another port, another address."""
    named, value, exact = rule.selector
    if kind != "indicator":
        return
    if named == "host":
        below = () if exact else (f"http://{UNNAMED}.{value}/{UNNAMED}",)
        yield from _at(value, f"http://{value}/{UNNAMED}", *below)
    elif named == "url" and not exact:
        pattern = UrlPattern.read(value, exact)
        tail = f"{pattern.path}/{UNNAMED}"
        ports = (pattern.port,) if pattern.port else (None, UNNAMED_PORT)
        yield from _at(value, *(f"http://{pattern.host}{f':{port}' if port else ''}{tail}" for port in ports))
    elif named == "address":
        network = normal_range(value)
        for place in {0, network.num_addresses // 2, network.num_addresses - 1}:
            one = network[place]
            yield from _at(str(one), f"http://[{one}]/{UNNAMED}" if one.version == 6 else f"http://{one}/{UNNAMED}")


def _at(name: str, *urls: str) -> Iterator[Subject]:
    return (Subject("host", name, url) for url in urls)


def is_of_host(subject: Subject) -> bool:
    """Whether a visit is looked at for its host or page: the contests of its categories are those of the categories
    themselves.
    """
    return subject.kind in ("host", "url", "address", "pattern")
