"""A bundle made ready to decide on."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from portero.core.browsers.chromium import PatternTable
from portero.core.browsers.handing import Handed
from portero.core.browsers.needless import Listed
from portero.core.matching.applications import EVERYTHING as EVERY_PROGRAM
from portero.core.matching.applications import Fit, SetTest, Started, Test
from portero.core.matching.hold_back import Held, HoldBack
from portero.core.matching.indicators import IndicatorTable, ServiceFacts
from portero.core.matching.searches import TermTable, pages_by_host
from portero.core.nouns.action import Action
from portero.core.nouns.application_set import ApplicationCondition, ApplicationSet
from portero.core.nouns.coverage import BrowserFamily, ListSupport
from portero.core.nouns.patterns import Pattern, SeenUrl, hosts_above
from portero.core.nouns.selector import OF_SERVICES, Selector
from portero.core.nouns.urls import Visit
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.resolving.bundles import Bundle, BundleAssignment, BundleRule, Rules
from portero.core.resolving.ladder import LOOSENESS, REPLACED, Contender, Ranking, Settled, is_broad, narrowness, settle
from portero.core.resolving.situations import WHOLE_MINUTES, Gates, Situation

MOST_KEPT = 20_000
"""How many situations, and how many combinations of assignments in play, are remembered."""


SHARED_FROM = 10_000
"""So many indicators of a ruleset are made ready once, for all policies: a look-up in a table of their own costs less
than making them ready again.
"""


class _SharedIndicators:
    """A ruleset's indicators made ready by their places in it, whatever assignment puts them in force."""

    def __init__(self, rules: Rules) -> None:
        self.table: IndicatorTable[int] = IndicatorTable({})
        of_services = []
        for number, rule in enumerate(rules):
            if rule.selector_kind in OF_SERVICES:
                of_services.append(number)
            else:
                self.table.add(_selector(rule), number)
        self.of_services = tuple(of_services)
        """Those that look at services, of which each policy has its own."""


def _selector(rule: BundleRule) -> Selector:
    return Selector(rule.selector_kind, rule.selector_value, rule.exact)


class ProgramRule(NamedTuple):
    """A startup rule: what is known of it whatever the program, and whether it holds one."""

    assignment: int
    rule: BundleRule
    test: Test | SetTest | None
    hold_back: HoldBack | None = None
    """Of a set's rule that stops or warns, where its assignment holds back what comes later."""

    def fit(self, program: Started) -> Fit:
        """Whether it holds the program, and how narrowly."""
        return self.test.fit(program) if self.test else Fit(EVERY_PROGRAM)


class Policy:
    """A bundle made ready to decide on: its rules, each where what it matches will look for it."""

    def __init__(self, bundle: Bundle, device: str = "") -> None:
        """`device` is the hostname of the device for which the bundle has an overlay in it."""
        self.bundle, self.device = bundle, device
        self.gates = Gates(bundle)
        self.categories: dict[str, list[Contender]] = {}
        self._rankings: dict[str, Ranking] = {}
        self.terms: TermTable[Contender] = TermTable()
        self.media: dict[str, list[Contender]] = {}
        self.indicators: IndicatorTable[Contender] = IndicatorTable(
            {
                key: (service.hosts, ServiceFacts(key, service.decision, service.suitability))
                for key, service in bundle.references.services.items()
            }
        )
        self.sites: list[tuple[Pattern, Contender]] = []
        self._sites_by_host: PatternTable[tuple[Pattern, Contender]] | None = None
        self.programs: list[ProgramRule] = []
        self.search_pages = pages_by_host(bundle.search_pages)
        self._sets = {
            key: ApplicationSet.model_validate(written) for key, written in bundle.references.application_sets.items()
        }
        self._instants = sorted(_instants(bundle))
        self.holds_back = any(assignment.hold_back is not None for assignment in bundle.assignments)
        self.teller: object | None = None
        """What tells its outcomes in words, kept here as it remembers them for as long as the policy is there."""
        self._situations: dict[tuple[object, ...], Frame] = {}
        self._frames: dict[tuple[object, ...], Frame] = {}
        for place, assignment in enumerate(bundle.assignments):
            for rule in self._share(place, assignment):
                self._add(place, assignment, rule)

    def _share(self, place: int, assignment: BundleAssignment) -> Iterable[BundleRule]:
        """Take over what is made ready for all policies of many indicators; gives the rules that are left to add."""
        rules = assignment.rules
        if assignment.kind != "indicator" or len(rules) < SHARED_FROM or not isinstance(rules, Rules):
            return rules
        shared = rules.authored.once(_SharedIndicators)

        def made(number: int) -> Contender:
            narrow = narrowness(_selector(rules[number]))
            return self.contender(place, rules[number], narrow, is_broad(narrow))

        self.indicators.include(shared.table, made)
        return [rules[number] for number in shared.of_services]

    def _add(self, place: int, assignment: BundleAssignment, rule: BundleRule) -> None:
        if assignment.kind == "startup":
            self.programs.append(ProgramRule(place, rule, self._program_test(rule), _hold_back(assignment, rule)))
            return
        selector = _selector(rule)
        narrow = narrowness(selector)
        contender = self.contender(place, rule, narrow, is_broad(narrow))
        if assignment.kind == "indicator":
            self.indicators.add(selector, contender)
        elif assignment.kind == "site":
            self.sites.append((Pattern.of(selector.value), contender))
        elif selector.kind == "search_term":
            self.terms.add(selector.value, contender)
        elif selector.kind == "media_type":
            self.media.setdefault(selector.value, []).append(contender)
        else:
            for category in categories_of(selector):
                self.categories.setdefault(category, []).append(contender)

    def contender(self, place: int, rule: BundleRule, narrowness: int, broad: bool = False) -> Contender:
        """A rule of the assignment at a place, ready to compete."""
        assignment = self.bundle.assignments[place]
        return Contender(
            place,
            rule.number,
            rule.action,
            LOOSENESS[rule.action],
            narrowness,
            self.gates.targets[place],
            assignment.mandatory,
            assignment.feed,
            broad,
            rule.until,
        )

    def ranking(self, category: str) -> Ranking:
        """The rules on a category, ranked."""
        found = self._rankings.get(category)
        if found is None:
            found = Ranking(self.categories.get(category, ()), self.gates.rungs_of)
            self._rankings[category] = found
        return found

    def sites_met(self, visit: Visit) -> Iterator[tuple[Pattern, Contender]]:
        """The site patterns that hold a visit, in play or not, each as often as it is named."""
        if self._sites_by_host is None:
            self._sites_by_host = PatternTable((one[0], one[1].action == Action.ALLOW, one) for one in self.sites)
        return self._sites_by_host.matching(SeenUrl.of(visit)) if self.sites else iter(())

    def _program_test(self, rule: BundleRule) -> Test | SetTest | None:
        if rule.selector_kind == "sha256":
            return Test(ApplicationCondition(sha256=rule.selector_value))
        if rule.selector_kind == "application_set":
            return SetTest(self._sets[rule.selector_value], self._sets)
        return None

    def is_steady(self, begin: float, end: float) -> bool:
        """Whether no more than people and places tell situations apart within the same minute: nothing begins or ends
        in it, given in seconds.
        """
        if self.gates.ends_at_restarts or begin < WHOLE_MINUTES:
            return False
        return bisect_right(self._instants, begin) == bisect_right(self._instants, end)

    def frame(self, situation: Situation) -> Frame:
        """What is in play in a situation. One that differs in nothing that counts is not worked out again."""
        at, user, groups, place = situation[:4]
        seconds = at.timestamp()
        epoch = bisect_right(self._instants, seconds)
        moments = self.gates.moments(situation, seconds)
        is_server = self.holds_back and situation.is_server
        key = (epoch, moments, user, groups, place, is_server)
        found = self._situations.get(key)
        if found is None:
            if len(self._situations) >= MOST_KEPT:
                self._situations.clear()
            found = self._situations[key] = self._frame(
                self.gates.people(situation, moments), epoch, seconds, is_server
            )
        return found

    def _frame(self, people: tuple[int, ...], epoch: int, seconds: float, is_server: bool) -> Frame:
        found = self._frames.get((people, epoch, is_server))
        if found is None:
            if len(self._frames) >= MOST_KEPT:
                self._frames.clear()
            found = self._frames[people, epoch, is_server] = Frame(self, people, seconds, is_server)
        return found


def categories_of(selector: Selector) -> Sequence[str]:
    """The categories that a category, family or everything stands for."""
    if selector.kind == "category":
        return (selector.value,)
    if selector.kind == "family":
        return [category.key for category in TAXONOMY.by_family[selector.value].categories]
    return list(TAXONOMY.categories)


def _instants(bundle: Bundle) -> Iterator[float]:
    """The moments at which something begins or is over for good."""
    for assignment in bundle.assignments:
        yield from (moment for moment in (assignment.starts, assignment.ends) if moment is not None)
        rules = assignment.rules
        yield from rules.once(_ends) if isinstance(rules, Rules) else _ends(rules)
        if assignment.hold_back is not None:
            yield from (at + assignment.hold_back for _, at in assignment.came)


def _ends(rules: Sequence[BundleRule]) -> list[float]:
    return [rule.until for rule in rules if rule.until is not None]


def _hold_back(assignment: BundleAssignment, rule: BundleRule) -> HoldBack | None:
    if assignment.hold_back is None or rule.selector_kind != "application_set" or rule.action not in ("warn", "block"):
        return None
    return HoldBack(assignment.hold_back, assignment.members, assignment.came)


class Frame:
    """A policy with the assignments that are in play in some situation. What it was asked it remembers."""

    def __init__(self, policy: Policy, people: tuple[int, ...], at: float, is_server: bool = False) -> None:
        """`at` is a moment, in seconds, of the span between two of the policy's instants for which it holds."""
        self.policy, self.people, self.at, self.is_server = policy, people, at, is_server
        self._categories: dict[str, Settled] = {}

    def settle(self, contenders: Sequence[Contender]) -> Settled:
        """Settle a contest."""
        return settle(contenders, self.people, self.at)

    def category(self, key: str) -> Settled:
        """The contest for a category, settled."""
        found = self._categories.get(key)
        if found is None:
            strongest = self.policy.ranking(key).strongest(self.people, self.at)
            found = self._categories[key] = settle(strongest, self.people, self.at)
        return found

    def held(self, known: ProgramRule, program: Started) -> Held | None:
        """Why a rule that holds a program only logs it now; None where it is not held back."""
        return known.hold_back.look(program, self.at, self.is_server) if known.hold_back else None

    def counting(self, contenders: Iterable[Contender]) -> list[Contender]:
        """The rules that are in play."""
        people, at = self.people, self.at
        return [
            one for one in contenders if people[one.assignment] < REPLACED and (one.until is None or at < one.until)
        ]

    def counts(self, contender: Contender) -> bool:
        """Whether a rule is in play: its assignment is, and it is before its own end."""
        return self.people[contender.assignment] < REPLACED and (contender.until is None or self.at < contender.until)

    @cached_property
    def replacers(self) -> dict[str, int]:
        """For each kind of ruleset the assignment that replaces weaker ones, if there is one."""
        return self.policy.gates.replacers(self.people, self.at)

    @cached_property
    def site_list(self) -> SiteList:
        """The site lists in play, merged."""
        return SiteList(self)


class SiteList:
    """The site lists in play, merged, before a browser is handed them: mandatory patterns first, then by the ladder.

    Where the same pattern is named more than once, the ladder decides.
    """

    def __init__(self, frame: Frame) -> None:
        by_pattern: dict[Pattern, list[Contender]] = {}
        for pattern, contender in frame.policy.sites:
            if contender.action != Action.LOG and frame.counts(contender):
                by_pattern.setdefault(pattern, []).append(contender)
        self._named = by_pattern
        self.settled: Mapping[Pattern, Settled] = {
            pattern: frame.settle(contenders) for pattern, contenders in by_pattern.items()
        }
        """Who lost to whom among those that name the same pattern."""
        won = [(pattern, one.winner) for pattern, one in self.settled.items() if one.winner is not None]
        self.left_out = _inside_mandatory(won)
        kept = [(pattern, winner) for pattern, winner in won if pattern not in self.left_out]
        kept.sort(key=lambda one: (not one[1].mandatory, one[1].strength(frame.people)))
        self.patterns: tuple[tuple[Pattern, Contender], ...] = tuple(kept)
        self._bundle = frame.policy.bundle
        self._handed: dict[tuple[BrowserFamily, int], Handed] = {}

    @cached_property
    def _table(self) -> PatternTable[tuple[Pattern, Contender]]:
        named = sorted(self.patterns, key=lambda one: (not one[1].mandatory, one[1].place))
        return PatternTable((one[0], one[1].action == Action.ALLOW, one) for one in named)

    def matching(self, visit: Visit) -> Iterator[tuple[Pattern, Contender]]:
        """The patterns that hold a visit as they are meant, those that count before others first."""
        return self._table.matching(SeenUrl.of(visit))

    def handed(self, support: ListSupport) -> Handed:
        """The list as a browser is handed it."""
        key = (support.family, support.limit)
        found = self._handed.get(key)
        if found is None:
            found = self._handed[key] = Handed([self._listed(*one) for one in self.patterns], *key)
        return found

    def assignment_of(self, contender: Contender) -> BundleAssignment:
        """The assignment that a rule is of."""
        return self._bundle.assignments[contender.assignment]

    def losers(self, pattern: Pattern) -> list[Contender]:
        """The rules in play that name a pattern and do not stand."""
        return [one for one in self._named[pattern] if one is not self.settled[pattern].winner]

    @cached_property
    def _places(self) -> Mapping[Pattern, int]:
        return {pattern: place for place, (pattern, _) in enumerate(self.patterns)}

    def place(self, pattern: Pattern) -> int:
        """Where a pattern stands in the list."""
        return self._places[pattern]

    def is_handed_whole(self, support: ListSupport) -> bool:
        """Whether a browser is handed all that is meant, with nothing changed or cut."""
        return support.family == "chromium" and len(self.patterns) <= support.limit

    def _listed(self, pattern: Pattern, winner: Contender) -> Listed:
        rule = self.assignment_of(winner).rules[winner.rule - 1]
        stricter = winner.mandatory if rule.reading is None else rule.reading == "stricter"
        return Listed(pattern, winner.action == Action.ALLOW, stricter)


def _inside_mandatory(won: Sequence[tuple[Pattern, Contender]]) -> Mapping[Pattern, Contender]:
    """Patterns left out, as an opposite mandatory one, here its rule, holds all that they do."""
    mandatory: dict[str, list[tuple[Pattern, Contender]]] = {}
    for pattern, winner in sorted(won, key=lambda one: one[1].place):
        if winner.mandatory:
            mandatory.setdefault(pattern.host, []).append((pattern, winner))
    found: dict[Pattern, Contender] = {}
    for pattern, winner in won if mandatory else ():
        allows = winner.action == Action.ALLOW
        for host in hosts_above(pattern.host) if not winner.mandatory else ():
            for other, above in mandatory.get(host, ()):
                if above.action != winner.action and pattern.inside(other, allows, not allows):
                    found.setdefault(pattern, above)
    return found
