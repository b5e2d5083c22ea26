"""Findings about site lists: what browsers do not take any more, cannot say, or keep for no page at all."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property

from portero.core import sentences
from portero.core.browsers.lists import Changed
from portero.core.insight.effects.world import World
from portero.core.insight.findings.told import HeldMembers, Told, finding, rule_at
from portero.core.insight.site_lists import Governed, governed_support, list_in_force, told_of_patterns
from portero.core.matching.members import Member
from portero.core.nouns.coverage import BrowserFamily, ListSupport
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import FindingKind, Severity
from portero.core.resolving.policy import SiteList

_HOLD_NOTHING = ("pattern-literal", "pattern-idle")


@dataclass
class _ChangedRules:
    """Rules of a ruleset that a family of browsers cannot say, and the machines that have one."""

    rules: dict[int, tuple[str, Changed]] = field(default_factory=dict)
    members: dict[str, Member] = field(default_factory=dict)
    assignments: set[str] = field(default_factory=set)


@dataclass(frozen=True)
class BrowserLists:
    """Looks at the merged list of every kind of machine, once for all that have the same."""

    estate: Estate
    world: World

    def find(self) -> Iterator[Told]:
        """All of them."""
        changed: dict[tuple[BrowserFamily, str], _ChangedRules] = defaultdict(_ChangedRules)
        for groups, members in self._by_list().items():
            merged = list_in_force(self._sites, groups, (), self.world.now)
            for support, own in self._by_browser(members).items():
                yield from self._cut(merged, groups, Governed(support, len(own)), own)
                self._note_changed(changed, merged, support, own)
        for (family, ruleset), found in sorted(changed.items()):
            yield self._changed(family, ruleset, found)
        yield from self._ignored()

    @cached_property
    def _sites(self) -> Estate:
        """The estate with its site rulesets alone in force."""
        kinds = {ruleset.key: ruleset.kind for ruleset in self.estate.rulesets}
        own = tuple(one for one in self.estate.assignments if kinds[one.ruleset] == "site")
        return self.estate.replacing(assignments=own)

    def _by_list(self) -> dict[tuple[str, ...], list[Member]]:
        """The machines by those of their groups to which site rulesets are assigned."""
        targets = {key for assignment in self._sites.assignments for key in assignment.groups}
        found: dict[tuple[str, ...], list[Member]] = defaultdict(list)
        for groups, members in self.world.classes.items() if targets else ():
            if own := tuple(key for key in groups if key in targets):
                found[own] += members
        return found

    def _by_browser(self, members: list[Member]) -> Mapping[ListSupport, list[Member]]:
        found: dict[ListSupport, list[Member]] = defaultdict(list)
        for member in members:
            for support in governed_support(member.facts, self.estate.coverage_table):
                found[support].append(member)
        return found

    def _cut(
        self, merged: SiteList, groups: tuple[str, ...], governed: Governed, members: list[Member]
    ) -> Iterator[Told]:
        if len(merged.patterns) <= governed.support.limit:
            return
        handed = merged.handed(governed.support)
        if handed.cut:
            cut = [merged.patterns[place] for place in handed.cut]
            kept = len(merged.patterns) - len(handed.needless)
            assignments = [merged.assignment_of(winner) for _, winner in cut]
            yield finding(
                FindingKind.LIST_TRUNCATED,
                Severity.HIGH,
                (governed.support.family, str(governed.support.limit), *groups),
                sentences.list_cut(len(merged.patterns), kept, [str(pattern) for pattern, _ in cut], *governed),
                assignments=list(dict.fromkeys(one.key for one in assignments)),
                rulesets=list(dict.fromkeys(one.ruleset for one in assignments)),
                groups=groups,
                devices=HeldMembers([members]),
            )

    def _note_changed(
        self,
        changed: dict[tuple[BrowserFamily, str], _ChangedRules],
        merged: SiteList,
        support: ListSupport,
        members: list[Member],
    ) -> None:
        if merged.is_handed_whole(support):
            return
        for place, one in merged.handed(support).said_otherwise.items():
            if not one.is_slight:
                pattern, winner = merged.patterns[place]
                owner = merged.assignment_of(winner)
                found = changed[support.family, owner.ruleset]
                found.rules[winner.rule] = (str(pattern), one)
                found.assignments.add(owner.key)
                found.members.update((member.id, member) for member in members)

    def _changed(self, family: BrowserFamily, key: str, found: _ChangedRules) -> Told:
        ruleset = self.estate.ruleset_by_key[key]
        return finding(
            FindingKind.PATTERN_CHANGED,
            Severity.MEDIUM,
            (family, key),
            sentences.patterns_changed(key, list(found.rules.values()), family, len(found.members)),
            assignments=sorted(found.assignments),
            rulesets=(key,),
            rules=[rule_at(ruleset, number) for number in sorted(found.rules)],
            devices=HeldMembers([list(found.members.values())]),
        )

    def _ignored(self) -> Iterator[Told]:
        """Patterns that can hold no page, or hardly one."""
        in_use = {assignment.ruleset for assignment in self._sites.assignments}
        for ruleset in self.estate.rulesets:
            if ruleset.key not in in_use:
                continue
            told = [one for one in told_of_patterns(ruleset) if one.code in _HOLD_NOTHING]
            if told:
                yield finding(
                    FindingKind.PATTERN_IGNORED,
                    Severity.LOW,
                    (ruleset.key,),
                    told[0].sentence,
                    rulesets=(ruleset.key,),
                    rules=[rule_at(ruleset, one.rule) for one in told if one.rule is not None],
                    remedies=[("remove-rules", {"ruleset": ruleset.key})],
                )
