"""An estate cut down to the rules that concern some subjects: so small that every class can be looked at."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Hashable, Iterable, Iterator, Mapping, Sequence
from copy import copy
from typing import NamedTuple

from portero.core.insight.effects.rulings import ANY_TIME, rules_met
from portero.core.insight.effects.subjects import Showing, Shown, Subject
from portero.core.matching.categories import CategoryIndex
from portero.core.matching.hold_back import HoldBack
from portero.core.nouns.action import Action, overridden
from portero.core.nouns.assignment import Assignment, State
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import WHOLE_FLEET
from portero.core.nouns.patterns import Pattern
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.selector import Selector
from portero.core.nouns.urls import UrlPattern
from portero.core.resolving.bundles import compile_bundle
from portero.core.resolving.deciding import content_met, weigh_start
from portero.core.resolving.ladder import Contender
from portero.core.resolving.policy import Policy


class Met(NamedTuple):
    """A rule that matches a subject, as its ruleset has it."""

    ruleset: str
    rule: int
    action: Action


class Contested(NamedTuple):
    """The rules that match a subject by the contests in which they meet: those of categories and such, or of programs;
    that of the indicators; and the site patterns, among which those of the same pattern meet.
    """

    others: Sequence[Sequence[Contender]]
    indicators: Sequence[Contender]
    sites: Sequence[tuple[Pattern, Contender]]

    def rules(self) -> Iterator[Contender]:
        """All of them."""
        yield from self.indicators
        for contest in self.others:
            yield from contest
        yield from (contender for _, contender in self.sites)


class Slice(NamedTuple):
    """What of an estate concerns some subjects. The rules of its rulesets keep their order, not their numbers."""

    estate: Estate
    shown: Mapping[Subject, Shown]
    groups: frozenset[str]
    """Groups on which something hangs: an assignment's targets, and those that have layer modes."""
    numbers: Mapping[str, Sequence[int]]
    """For each ruleset the numbers that its rules have in the whole estate, in order."""

    def reduced(self, groups: Iterable[str]) -> tuple[str, ...]:
        """A device's groups without those on which nothing hangs."""
        return tuple(key for key in groups if key in self.groups)


class Cutter:
    """Finds the rules of an estate that concern a subject. Made once for an estate, asked often."""

    def __init__(self, estate: Estate, index: CategoryIndex, catalogue: Mapping[str, frozenset[str]]) -> None:
        self.estate = estate
        self._catalogue = catalogue
        self._showing = Showing(estate, index, catalogue)
        self._in_force = [assignment for assignment in estate.assignments if assignment.state is State.ACTIVE]
        used = dict.fromkeys(assignment.ruleset for assignment in self._in_force)
        # every ruleset in use, once and without conditions
        once = [Assignment.model_construct(key=key, ruleset=key, to=(WHOLE_FLEET,)) for key in used]
        bundle = compile_bundle(estate.replacing(assignments=tuple(once), layer_modes=()), (WHOLE_FLEET,))
        self._hold_backs = [HoldBack.of(one) for one in self._in_force if one.hold_back is not None]
        self._whole = Policy(bundle)
        self._keys = [assignment.ruleset for assignment in bundle.assignments]
        self._frame = self._whole.frame(ANY_TIME)

    def seeing(self, index: CategoryIndex) -> Cutter:
        """The same rules, where hosts are in the categories of another index."""
        other = copy(self)
        other._showing = Showing(self.estate, index, self._catalogue)
        return other

    def show(self, subject: Subject) -> Shown:
        """The subject as rules look at it."""
        return self._showing.show(subject)

    def meet(self, shown: Shown) -> Contested:
        """The rules that match what is shown, in play or not, each ruleset's once and without its conditions."""
        if shown.started is not None:
            return Contested([weigh_start(self._frame, shown.started).contenders], (), ())
        assert shown.visited is not None
        whole, visited = self._whole, shown.visited
        others: list[Sequence[Contender]] = [whole.categories.get(key, ()) for key in visited.categories]
        others += (contenders for _, contenders in content_met(whole, visited))
        indicators = whole.indicators.met_by(visited.visit, visited.address, visited.page)
        return Contested(others, indicators, list(whole.sites_met(visited.visit)))

    def ruleset_of(self, contender: Contender) -> str:
        """The ruleset that a rule is of."""
        return self._keys[contender.assignment]

    @property
    def lists_sites(self) -> bool:
        """Whether some site list is in use."""
        return bool(self._whole.sites)

    def is_lonely(self, selector: Selector) -> bool:
        """Whether an indicator of a host or a URL meets no other indicator, wherever that is told without looking."""
        if selector.kind == "url":
            return self._whole.indicators.is_lonely(UrlPattern.read(selector.value, selector.exact).host)
        return selector.kind == "host" and self._whole.indicators.is_lonely(selector.value)

    def on_pages_of(self, host: str) -> list[tuple[str, int]]:
        """The rules for single URLs on a host, by ruleset and number."""
        return [(self._keys[met.assignment], met.rule) for met in self._whole.indicators.on_pages_of(host)]

    def _met(self, contenders: Iterable[Contender]) -> list[Met]:
        return [
            Met(self._keys[contender.assignment], contender.rule, Action(contender.action)) for contender in contenders
        ]

    def likeness(self, shown: Shown) -> Hashable:
        """What is equal for subjects of which the same becomes in every circumstance."""
        met = list(rules_met(self._whole, self._frame, shown))
        places = {
            narrowness: place for place, narrowness in enumerate(sorted({contender.narrowness for contender in met}))
        }
        listed = frozenset(
            (
                self._keys[contender.assignment],
                contender.action,
                contender.until,
                contender.broad,
                places[contender.narrowness],
            )
            for contender in met
        )
        visited = shown.visited
        return (
            listed,
            shown.essential,
            tuple(one.look(shown.started, 0.0, False) for one in self._hold_backs) if shown.started else None,
            visited and visited.categories,
            visited and bool(visited.searched),
            visited and visited.media_type,
        )

    def cut(self, subjects: Mapping[Subject, Shown]) -> Slice:
        """The estate with nothing but what concerns these subjects."""
        wanted: dict[str, set[int]] = defaultdict(set)
        for shown in subjects.values():
            for met in self._met(rules_met(self._whole, self._frame, shown)):
                wanted[met.ruleset].add(met.rule)
        for assignment in self._in_force:
            if assignment.replaces_weaker:
                last = _last_to_decide(self.estate.ruleset_by_key[assignment.ruleset], assignment)
                wanted[assignment.ruleset].update(() if last is None else (last,))
        rulesets, numbers = [], {}
        for key, found in wanted.items():
            ruleset = self.estate.ruleset_by_key[key]
            numbers[key] = sorted(found)
            rules = tuple(ruleset.rules[number - 1] for number in numbers[key])
            # a part of a valid ruleset is valid: not checked again
            rulesets.append(ruleset.model_copy(update={"rules": rules}))
        assignments = tuple(assignment for assignment in self._in_force if assignment.ruleset in wanted)
        hosts = {subject.visited.visit.host for subject in subjects.values() if subject.visited}
        table = self._whole.indicators
        services = {service.key for host in hosts if (service := table.service_of(host)) is not None}
        estate = self.estate.replacing(
            rulesets=tuple(rulesets),
            assignments=assignments,
            services=tuple(service_ for service_ in self.estate.services if service_.key in services),
            corrections=(),
            notices=(),
        )
        groups = {key for assignment in assignments for key in assignment.groups} | {
            layer_mode.group for layer_mode in estate.layer_modes
        }
        return Slice(estate, subjects, frozenset(groups), numbers)


def _last_to_decide(ruleset: Ruleset, assignment: Assignment) -> int | None:
    """The rule that keeps an assignment deciding something for longest: on that it hangs whether it replaces."""
    ends = [
        (rule.valid_until.timestamp() if rule.valid_until else float("inf"), number)
        for number, rule in enumerate(ruleset.rules, start=1)
        if overridden(rule.action, assignment.action) is not Action.LOG
    ]
    return max(ends, default=(0.0, None))[1]
