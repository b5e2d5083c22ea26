"""Findings about assignments that cannot be carried out on some machines: what is hidden there, or governs nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

from portero.core import sentences, wording
from portero.core.by_identity import ByIdentity
from portero.core.insight.effects.world import World
from portero.core.insight.findings.alone import Put
from portero.core.insight.findings.companions import browsers_are_blocked, has_companion, may_have_companion
from portero.core.insight.findings.policy_files import OF_POLICY_FILES
from portero.core.insight.findings.told import MOST_RULES, HeldMembers, Told, rule_at
from portero.core.insight.taking_hold import host_only
from portero.core.matching.members import Item, Member, Shared
from portero.core.nouns.action import STOPPING, Action
from portero.core.nouns.assignment import State
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import FindingKind, Severity
from portero.core.nouns.group import WHOLE_FLEET
from portero.core.nouns.layer import LayerMode
from portero.core.nouns.ruleset import Ruleset

MOST_BROWSERS = 20
_BESIDE = {
    **dict.fromkeys(("browser-unmanaged", "policy-overridden", "policy-unwritten"), "as-indicators"),
    "path-hidden": "as-site-patterns",
    "content-hidden": "as-search-patterns",
}
"""What can be said by other means too, and by which remedy."""


@dataclass(frozen=True)
class Unenforceable:
    """Looks at each assignment in force. `puts` are the estate's."""

    estate: Estate
    world: World
    puts: Sequence[Put]

    def find(self) -> Iterator[Told]:
        """All of them."""
        for put in self.puts:
            ends = put.assignment.ends
            if put.assignment.state is State.ACTIVE and (ends is None or ends > self.world.now):
                yield from self._of(put)

    def _of(self, put: Put) -> Iterator[Told]:
        for code, about, devices in self._hidden(put):
            beside = code in _BESIDE and _may_be_patterns(put.ruleset, about)
            if not devices or (beside and has_companion(self.estate, put.assignment, put.ruleset)):
                continue
            assignment, remedies, names = put.assignment, [], []
            if code == "browser-unmanaged":
                names = self._ungoverned(devices)
                if browsers_are_blocked(self.estate, assignment, names):
                    continue
            if code == "path-hidden":
                remedies.append(("name-hosts", {"ruleset": assignment.ruleset}))
            if beside and may_have_companion(self.estate, assignment, put.ruleset):
                remedies.append((_BESIDE[code], {}))
            if names:
                remedies.append(("block-browsers", {"browsers": wording.joined(names)}))
            if code == "startup-observing":
                remedies += [("enforce-startup", {"group": key}) for key in assignment.groups[:1] if key != WHOLE_FLEET]
            yield put.told(
                FindingKind.UNENFORCEABLE,
                Severity.MEDIUM,
                sentences.unenforceable(put.words, code, put.rules_in_words(about), len(devices)),
                code=code,
                groups=assignment.groups,
                rules=[rule_at(put.ruleset, number) for number in about[:MOST_RULES]],
                devices=devices,
                browsers=names,
                remedies=remedies,
            )

    def _ungoverned(self, devices: HeldMembers) -> list[str]:
        """The names of the browsers of some machines that no site list reaches."""
        alike = {(member.browsers, member.facts.platform) for member in devices}
        return sorted(
            {
                (browser.name or "").casefold()
                for shared, platform in alike
                for browser in (shared.items if shared else ())
                if self._is_ungoverned(browser, platform)
            }
        )[:MOST_BROWSERS]

    def _is_ungoverned(self, browser: Item, platform: str | None) -> bool:
        return not self.estate.coverage_table.governs(browser.name, browser.managed, platform)

    def _hidden(self, put: Put) -> Iterator[tuple[str, list[int], HeldMembers]]:
        """What of an assignment does not hold where: a code, the rules, the devices."""
        kind, rules = put.ruleset.kind, put.ruleset.rules
        stops, paths, contents = _numbers.of(put.ruleset)
        if paths:
            yield "path-hidden", paths, self._with_browsers(put, self._host_only)
        if contents:
            yield "content-hidden", contents, self._with_browsers(put, self._host_only)
        if kind == "site" and rules:
            yield "browser-unmanaged", [], self._with_browsers(put, self._unmanaged)
            for code, test in OF_POLICY_FILES.items():
                yield code, [], self._those(put, test)
        if kind == "startup" and stops and put.assignment.action != "log":
            yield "startup-observing", [], self._those(put, self._starts_free)

    @cached_property
    def _host_only(self) -> Callable[[Member], bool]:
        return host_only(self.estate.coverage_table)

    def _unmanaged(self, member: Member) -> bool:
        return any(self._is_ungoverned(browser, member.facts.platform) for browser in member.facts.browsers)

    def _starts_free(self, member: Member) -> bool:
        return self.estate.mode_of("startup", self.world.groups(member.id)) is not LayerMode.ENFORCING

    @cached_property
    def _sifted(self) -> dict[tuple[object, int], list[Member]]:
        return {}

    def _with_browsers(self, put: Put, test: Callable[[Member], bool]) -> HeldMembers:
        """Those of its devices of which something is so that hangs on their browsers: one of each sort is looked at."""
        found: list[list[Member]] = []
        for some in put.devices.lists:
            key = (test, id(some))
            known = self._showing.get(key)
            if known is None:
                own = self.world.groups(some[0].id) if some else ()
                by_browsers = self.world.classes.apart(own, some, _browsers_of)
                known = self._showing[key] = [alike for alike in by_browsers.values() if test(alike[0])]
            found += known
        return HeldMembers(found)

    @cached_property
    def _showing(self) -> dict[tuple[object, int], list[list[Member]]]:
        return {}

    def _those(self, put: Put, test: Callable[[Member], bool]) -> HeldMembers:
        """Those of its devices of which something is so; each class is gone through once."""
        found = []
        for some in put.devices.lists:
            key = (test, id(some))
            known = self._sifted.get(key)
            if known is None:
                known = self._sifted[key] = list(filter(test, some))
            found.append(known)
        return HeldMembers(found)


def _numbers_of(ruleset: Ruleset) -> tuple[list[int], list[int], list[int]]:
    """The rules that stop something; of these those that name a path, and those that look at content."""
    stops = [(number, rule) for number, rule in enumerate(ruleset.rules, 1) if rule.action in STOPPING]
    paths = [number for number, rule in stops if rule.names_path]
    contents = [number for number, rule in stops if rule.search_term or rule.media_type]
    return [number for number, _ in stops], paths, contents


_numbers = ByIdentity(_numbers_of)


def _browsers_of(member: Member) -> tuple[Shared | None, str | None]:
    return member.browsers, member.facts.platform


def _may_be_patterns(ruleset: Ruleset, numbers: Sequence[int]) -> bool:
    """Whether a companion can say them all: no pattern names a type of content, or warns of a search."""
    rules = [ruleset.rules[number - 1] for number in numbers]
    return not any(rule.media_type or (rule.search_term and rule.action is not Action.BLOCK) for rule in rules)
