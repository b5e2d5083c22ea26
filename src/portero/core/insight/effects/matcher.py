"""Which rules of an estate match a subject, wherever they are in force."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from copy import copy
from datetime import UTC, datetime
from typing import Any, NamedTuple, TypeVar

from portero.core.insight.effects.subjects import Showing, Shown, Subject
from portero.core.matching.categories import CategoryIndex
from portero.core.matching.hold_back import HoldBack
from portero.core.nouns.assignment import Assignment, State
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import WHOLE_FLEET
from portero.core.nouns.patterns import Pattern
from portero.core.nouns.selector import Selector
from portero.core.nouns.urls import UrlPattern
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.deciding import content_met, weigh_start
from portero.core.resolving.ladder import Contender
from portero.core.resolving.policy import Policy
from portero.core.resolving.situations import Situation

Found = TypeVar("Found")
MOST_FOUND = 8


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


class Matcher:
    """Finds the rules of an estate that concern a subject. Made once for an estate, asked often."""

    def __init__(
        self,
        estate: Estate,
        index: CategoryIndex,
        catalogue: Mapping[str, frozenset[str]],
        beside: Iterable[Matcher] = (),
    ) -> None:
        """`beside` are others of which one may show subjects alike."""
        self.estate = estate
        self._catalogue = catalogue
        alike = (one.showing for one in beside if one.showing.is_of(estate, index, catalogue))
        self.showing: Showing = next(alike, None) or Showing(estate, index, catalogue)
        used = dict.fromkeys(one.ruleset for one in estate.assignments if one.state is State.ACTIVE)
        # every ruleset in use, once and without conditions
        once = [Assignment.model_construct(key=key, ruleset=key, to=(WHOLE_FLEET,)) for key in used]
        bundle = compile_bundle(estate.replacing(assignments=tuple(once), layer_modes=()), (WHOLE_FLEET,))
        self._hold_backs = _hold_backs(estate)
        self._whole = Policy(bundle)
        self._keys = [assignment.ruleset for assignment in bundle.assignments]
        # rules match in play or not: the situation does not count
        self._frame = self._whole.frame(Situation(datetime.fromtimestamp(0, UTC)))
        self._found: dict[Hashable, Any] = {}

    @staticmethod
    def made_of(estate: Estate) -> tuple[object, ...]:
        """What of an estate a matcher is made of, to be told by identity: assignments count no further than that they
        put rulesets in force.
        """
        used = {assignment.ruleset for assignment in estate.assignments if assignment.state is State.ACTIVE}
        rulesets = tuple(ruleset for ruleset in estate.rulesets if ruleset.key in used)
        parts = (estate.services, estate.application_sets, estate.corrections, estate.application_corrections)
        return (len(rulesets), *rulesets, *parts, estate.coverage, estate.settings)

    def under(self, estate: Estate) -> Matcher:
        """The same rules, where they are put in force otherwise."""
        other = copy(self)
        other.estate, other._hold_backs = estate, _hold_backs(estate)
        return other

    def once(self, key: Hashable, find: Callable[[], Found]) -> Found:
        """What was found of these rules, by all else that it hangs on; that of the last few times is kept."""
        found: Found | None = self._found.get(key)
        if found is None:
            found = find()
            while len(self._found) >= MOST_FOUND:
                self._found.pop(next(iter(self._found)), None)
            self._found[key] = found
        return found

    def seeing(self, index: CategoryIndex) -> Matcher:
        """The same rules, where hosts are in the categories of another index."""
        other = copy(self)
        other.showing, other._found = Showing(self.estate, index, self._catalogue), {}
        return other

    def show(self, subject: Subject) -> Shown:
        """The subject as rules look at it."""
        return self.showing.show(subject)

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

    def likeness(self, shown: Shown) -> Hashable:
        """What is equal for subjects of which the same becomes in every circumstance."""
        met = list(self.meet(shown).rules())
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


def _hold_backs(estate: Estate) -> list[HoldBack]:
    return [HoldBack.of(one) for one in estate.assignments if one.state is State.ACTIVE and one.hold_back is not None]


def once_each_alike(subjects: Iterable[Subject], matchers: Sequence[Matcher]) -> dict[Subject, list[Subject]]:
    """One subject for all those of which the same becomes, with the others."""
    first: dict[object, Subject] = {}
    alike: dict[Subject, list[Subject]] = {}
    for subject in dict.fromkeys(subjects):
        # categories are told one by one; the others of a list of thousands are told together
        key: object = subject
        if subject.kind not in ("category", "program"):
            key = (subject.kind, *(matcher.likeness(matcher.show(subject)) for matcher in matchers))
        same = first.setdefault(key, subject)
        if same is subject:
            alike[subject] = []
        else:
            alike[same].append(subject)
    return alike
