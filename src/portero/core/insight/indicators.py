"""Questions about many indicators at once: what a file brings, what overlaps, what can go."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from typing import NamedTuple

from portero.core.matching.indicators import IndicatorTable
from portero.core.nouns.action import Action
from portero.core.nouns.address_list import IncludedRule
from portero.core.nouns.assignment import Assignment, State
from portero.core.nouns.estate import Estate
from portero.core.nouns.indicator import CleanUpItem, CleanUpReason, Overlapping
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.selector import Selector
from portero.core.nouns.urls import UrlPattern, Visit, address_of, normal_range, parse_visit
from portero.core.resolving.ladder import is_broad, narrowness

PLACED = ("host", "url", "address")
"""Selectors that name a place, so that one can be within another."""


class Placed(NamedTuple):
    """A rule with the ruleset that it stands in."""

    ruleset: Ruleset
    number: int
    rule: Rule

    def __str__(self) -> str:
        return f"{self.rule.selector} in {self.ruleset.key}"


def visit_of(rule: Rule) -> tuple[Visit, str | None] | None:
    """A visit, and its address, that an indicator is for; None for one that names no single place."""
    kind, value, _ = rule.selector
    if kind == "host":
        return Visit(f"http://{value}/", "http", value), None
    if kind == "url":
        visit = parse_visit(f"http://{UrlPattern.read(value, rule.selector.exact)}")
        return visit, address_of(visit.host)
    if kind == "address":
        address = str(normal_range(value).network_address)
        host = f"[{address}]" if ":" in address else address
        return Visit(f"http://{host}/", "http", host), address
    return None


def has_ended(rule: Rule, now: datetime) -> bool:
    """Whether it has ended."""
    return rule.valid_until is not None and rule.valid_until <= now


def all_placed(rulesets: Iterable[Ruleset]) -> Iterator[Placed]:
    """Every indicator that names a place."""
    for ruleset in rulesets:
        if ruleset.kind == "indicator":
            for number, rule in enumerate(ruleset.rules, start=1):
                if rule.selector.kind in PLACED:
                    yield Placed(ruleset, number, rule)


class Covering:
    """Finds the indicators within which another one is."""

    def __init__(self, placed: Iterable[Placed]) -> None:
        self._table: IndicatorTable[Placed] = IndicatorTable({})
        for one in placed:
            self._table.add(one.rule.selector, one)

    def of(self, rule: Rule) -> list[Placed]:
        """Those that hold all of what the rule is for, the narrowest first; not those for the very same."""
        shown = visit_of(rule)
        if shown is None:
            return []
        visit, address = shown
        own = narrowness(rule.selector)
        found = [
            other
            for other in self._table.met_by(visit, address)
            if other.rule.selector != rule.selector and _holds(other.rule.selector, rule.selector, own)
        ]
        return sorted(found, key=lambda other: narrowness(other.rule.selector))

    def contested(self, rule: Rule, wider: Placed) -> bool:
        """Whether a rule of another ruleset, with another action, would compete where so far this one was narrower."""
        shown = visit_of(rule)
        own, most = narrowness(rule.selector), narrowness(wider.rule.selector)
        return shown is not None and any(
            one.ruleset is not wider.ruleset
            and one.rule.action not in (rule.action, Action.LOG)
            and own <= narrowness(one.rule.selector) <= most
            for one in self._table.met_by(*shown)
        )


def _holds(wide: Selector, narrow: Selector, own: int) -> bool:
    """Whether all that one is for is within the other. That one shows a visit that the other meets is known."""
    if narrow.kind == "address" and "/" in narrow.value:
        return wide.kind == "address" and normal_range(narrow.value).subnet_of(normal_range(wide.value))  # type: ignore[arg-type]
    if narrow.kind == "host" and not narrow.exact:
        # all below it too: only a host at or above it, unmarked, holds that
        return wide.kind == "host" and not wide.exact
    return narrowness(wide) > own


def overlaps(rules: Sequence[tuple[int, Rule]], estate: Estate, most: int) -> tuple[int, list[Overlapping]]:
    """How many of these rules are within indicators that there are, or have some within them; and the first of them."""
    there = list(all_placed(estate.rulesets))
    above, below = Covering(there), _within(rules, there)
    number, told = 0, list[Overlapping]()
    for line, rule in rules:
        met = above.of(rule)[:1] or below.get(rule.selector, [])[:1]
        if met:
            number += 1
            if len(told) < most:
                one = met[0]
                told.append(
                    Overlapping(
                        line=line,
                        selector=str(rule.selector),
                        other=str(one.rule.selector),
                        ruleset=one.ruleset.key,
                        feed=one.ruleset.feed,
                        action=one.rule.action.value,
                    )
                )
    return number, told


def _within(rules: Sequence[tuple[int, Rule]], there: Iterable[Placed]) -> dict[Selector, list[Placed]]:
    """By the new rules' selectors, what there is within them."""
    table: IndicatorTable[Rule] = IndicatorTable({})
    for _, rule in rules:
        if rule.selector.kind in PLACED:
            table.add(rule.selector, rule)
    found: dict[Selector, list[Placed]] = {}
    for placed in there:
        shown, selector = visit_of(placed.rule), placed.rule.selector
        for rule in table.met_by(*shown) if shown is not None else ():
            if rule.selector != selector and _holds(rule.selector, selector, narrowness(selector)):
                found.setdefault(rule.selector, []).append(placed)
    return found


# --- cleaning up ---


def clean_up(estate: Estate, now: datetime) -> Iterator[CleanUpItem]:
    """Every indicator that can go without a verdict becoming another one: it has ended; another ruleset on the same
    machines says the same; or the wider one that would count in its place says the same for as long. What address
    lists bring is left to them.
    """
    rulesets = [ruleset for ruleset in estate.rulesets if ruleset.kind == "indicator"]
    every = Covering(placed for placed in all_placed(rulesets) if not has_ended(placed.rule, now))
    same = _SaidAsWell(estate, rulesets, now)
    for ruleset in rulesets:
        for number, rule in enumerate(ruleset.rules, start=1):
            if isinstance(rule, IncludedRule):
                continue
            found: tuple[CleanUpReason, Placed | None] | None = None
            if has_ended(rule, now):
                found = "ended", None
            elif twin := same.by(ruleset, rule):
                found = "duplicate", twin
            elif wider := _standing_in(every, ruleset, rule):
                found = "overshadowed", wider
            if found is not None:
                yield CleanUpItem(
                    ruleset=ruleset.key,
                    number=number,
                    selector=str(rule.selector),
                    action=rule.action.value,
                    reason=found[0],
                    by=str(found[1]) if found[1] else None,
                )


def _lasts_as_long(rule: Rule, other: Rule) -> bool:
    """Whether one holds at least as long as the other."""
    return rule.valid_until is None or (other.valid_until is not None and rule.valid_until >= other.valid_until)


def _standing_in(every: Covering, ruleset: Ruleset, rule: Rule) -> Placed | None:
    """The wider rule of the same ruleset that would count in place of a rule, where it says the same for as long, and
    none of another ruleset would come between.
    """
    if rule.selector.kind not in PLACED:
        return None
    own = narrowness(rule.selector)
    for wider in every.of(rule):
        if wider.ruleset is ruleset:
            same = wider.rule.action is rule.action and is_broad(narrowness(wider.rule.selector)) == is_broad(own)
            return wider if same and _lasts_as_long(wider.rule, rule) and not every.contested(rule, wider) else None
    return None


class _SaidAsWell:
    """Finds, for a rule, one for the same with the same action in another hand-written ruleset on the same machines."""

    def __init__(self, estate: Estate, rulesets: Sequence[Ruleset], now: datetime) -> None:
        self._places = {one.key: place for place, one in enumerate(rulesets)}
        self._reach: dict[str, list[tuple[str, frozenset[object]]]] = {key: [] for key in self._places}
        for assignment in estate.assignments:
            if assignment.ruleset in self._reach and assignment.state is State.ACTIVE:
                how = assignment.model_dump_json(exclude={"key", "ruleset", "to", *Assignment.told_only})
                self._reach[assignment.ruleset].append((how, frozenset(assignment.to)))
        self._by: dict[tuple[Selector, Action], list[Placed]] = {}
        for ruleset in rulesets:
            if ruleset.feed is None:
                for number, rule in enumerate(ruleset.rules, start=1):
                    if not has_ended(rule, now):
                        self._by.setdefault((rule.selector, rule.action), []).append(Placed(ruleset, number, rule))

    def by(self, ruleset: Ruleset, rule: Rule) -> Placed | None:
        """Such a one; of two that say each other's, only the later one has one."""
        for one in self._by.get((rule.selector, rule.action), ()):
            other = one.ruleset
            if other is ruleset or not _lasts_as_long(one.rule, rule) or not self._reaches(other, ruleset):
                continue
            mutual = ruleset.feed is None and self._reaches(ruleset, other) and _lasts_as_long(rule, one.rule)
            if not mutual or self._places[other.key] < self._places[ruleset.key]:
                return one
        return None

    def _reaches(self, wide: Ruleset, narrow: Ruleset) -> bool:
        """Whether one ruleset is put, in just the same way, on all that the other one is put on."""
        reach = self._reach[narrow.key]
        return bool(reach) and all(
            any(how == other and targets <= wider for other, wider in self._reach[wide.key]) for how, targets in reach
        )
