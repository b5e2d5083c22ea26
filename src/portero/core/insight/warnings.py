"""What should be known of a rule or an assignment while it is being written."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from difflib import get_close_matches
from typing import NamedTuple

from publicsuffixlist import PublicSuffixList

from portero.core import sentences, wording
from portero.core.insight.brought_rules import with_included
from portero.core.insight.effects.world import World
from portero.core.insight.findings import find_all
from portero.core.insight.merging import put_in_place
from portero.core.insight.site_lists import (
    governed_browsers,
    list_of_ruleset,
    told_of_list,
    told_of_patterns,
)
from portero.core.insight.taking_hold import host_only
from portero.core.matching.categories import CategoryIndex, look_up
from portero.core.matching.searches import search_patterns
from portero.core.nouns.action import STOPPING, Action
from portero.core.nouns.assignment import Assignment, State
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import FindingKind
from portero.core.nouns.group import WHOLE_FLEET
from portero.core.nouns.rule import Rule, RulesetKind
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.urls import address_of
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.nouns.worklist import AuthoringWarning

MOST_WARNINGS = 200
MOST_LOOKED_AT = 2_000
MOST_WRITTEN = 200
"""How many rules, the last ones, are looked at one by one."""
MOST_EXACT = 5
"""How many hosts are looked at for what else was seen of their domains."""
_NEAR = 0.85
_suffixes = PublicSuffixList(accept_unknown=False)
_RESERVED = ("example", "test", "invalid", "localhost", "internal", "local", "lan", "home", "corp", "arpa")
"""Suffixes that are nobody's, or an organisation's own: RFC 2606, RFC 6762, and what networks use inside."""
_TOLD = (
    FindingKind.SHADOWED,
    FindingKind.NO_DEVICE,
    FindingKind.NEVER_OPEN,
    FindingKind.CONTRADICTION,
    FindingKind.OPENED_BY_WEAKER,
    FindingKind.SOFTENED,
    FindingKind.LAYERS_DISAGREE,
    FindingKind.BROAD,
    FindingKind.UNENFORCEABLE,
    FindingKind.BLOCKS_ESSENTIAL,
    FindingKind.UNDONE_BY_LAYER,
    FindingKind.ALLOW_BEATEN,
    FindingKind.UNKNOWN_NAME,
    FindingKind.LIST_TRUNCATED,
    FindingKind.PROGRAM_PRESENT,
    FindingKind.PATTERN_CHANGED,
)


class SeenBeside(NamedTuple):
    """Other hosts of a host's domain that were seen, and on how many machines."""

    hosts: tuple[str, ...]
    devices: int


def warn_of_ruleset(
    ruleset: Ruleset, estate: Estate, world: World, hosts: CategoryIndex, beside: Callable[[str], SeenBeside]
) -> list[AuthoringWarning]:
    """What should be known of a ruleset, saved or not: by its rules, and by where it is assigned already.

    A host that the index has an entry for is not taken for a mistyped one. `beside` finds a host's siblings.
    """
    ruleset = with_included(ruleset, estate.address_list_by_key)
    writer = _Writer(ruleset, estate, world, hosts, beside)
    found = [warning for number, rule in writer.rules() for warning in writer.of(number, rule)]
    if ruleset.kind == "site":
        found += told_of_patterns(ruleset, max(len(ruleset.own_rules) - MOST_WRITTEN, 0))
        browsers = governed_browsers((member.facts for member in world.members), estate.coverage_table)
        found += told_of_list(list_of_ruleset(ruleset, world.now), browsers)
    after = estate.replacing(rulesets=put_in_place(ruleset, estate.rulesets))
    if ruleset.key in {assignment.ruleset for assignment in estate.assignments} and not list(after.faults()):
        told = _of_findings(after, world, lambda _keys, rulesets: ruleset.key in rulesets)
        if {one.code for one in told} & {FindingKind.SHADOWED.value, FindingKind.ALLOW_BEATEN.value}:
            # said there with the machines
            found = [one for one in found if one.code != FindingKind.ALLOW_BEATEN]
        found += told
    return found[:MOST_WARNINGS]


def warn_of_assignment(assignment: Assignment, estate: Estate, world: World) -> list[AuthoringWarning]:
    """What should be known of an assignment, saved or not. It is looked at as if it were in force."""
    ruleset = estate.ruleset_by_key.get(assignment.ruleset)
    # who has what it would stop is worth knowing beforehand, whether it is reported later or not
    reports = ruleset is not None and ruleset.kind == "startup"
    in_force = assignment.model_copy(update={"state": State.ACTIVE, "report_presence": reports})
    after = estate.replacing(assignments=put_in_place(in_force, estate.assignments))
    return _of_findings(after, world, lambda keys, _rulesets: assignment.key in keys)[:MOST_WARNINGS]


def _of_findings(
    after: Estate, world: World, concerns: Callable[[Sequence[str], Sequence[str]], bool]
) -> list[AuthoringWarning]:
    return [
        AuthoringWarning(code=item.kind.value, sentence=item.sentence, devices=item.devices)
        for item in find_all(after, world).items
        if item.kind in _TOLD and concerns(item.assignments, item.rulesets)
    ]


class _Writer:
    """Looks at the rules of one ruleset."""

    def __init__(
        self,
        ruleset: Ruleset,
        estate: Estate,
        world: World,
        hosts: CategoryIndex,
        beside: Callable[[str], SeenBeside],
    ) -> None:
        self._ruleset, self._hosts, self._beside, self._exact = ruleset, hosts, beside, 0
        self._search_pages = {page.host for page in estate.settings.search_pages}
        self._pages = [(page.host, page.parameter) for page in estate.settings.search_pages]
        self._corrections = {one.host: one.categories for one in estate.corrections}
        shows_host = host_only(estate.coverage_table)
        self._host_only = [member for member in world.members if shows_host(member)]
        self._known = sorted(_known_hosts(estate, ruleset.key))
        everywhere = list(_in_force_everywhere(estate, ruleset.key))
        kinds = (ruleset.kind, "category") if ruleset.kind == "indicator" else (ruleset.kind,)
        self._mandatory = [
            one for one in everywhere if one.mandatory and one.kind in kinds and one.rule.action in STOPPING
        ]
        same = [one for one in everywhere if one.kind == ruleset.kind]
        self._elsewhere = [one for one in same if one.mandatory or self._beaten_by(one.rule) is None]

    def rules(self) -> list[tuple[int, Rule]]:
        """The rules with their numbers, the last ones: those that are being written."""
        return list(enumerate(self._ruleset.own_rules, 1))[-MOST_WRITTEN:]

    def of(self, number: int, rule: Rule) -> Iterator[AuthoringWarning]:
        """What should be known of one rule."""
        yield from self._hidden(number, rule)
        yield from self._elsewhere_than_searched(number, rule)
        host = rule.host_named
        if host and address_of(host) is None:
            yield from self._mistyped(number, rule, host)
            yield from self._alone(number, rule, host)
        if rule.action is Action.ALLOW and (by := self._beaten_by(rule)) is not None:
            words = sentences.never_allowed(sentences.selector_words(rule), sentences.selector_words(by.rule), by.where)
            yield AuthoringWarning(code="allow-beaten", rule=number, sentence=words)
        else:
            yield from self._covered(number, rule)

    def _beaten_by(self, rule: Rule) -> _Everywhere | None:
        """A mandatory rule that everybody has, and that stops all that an allow names."""
        if rule.action is not Action.ALLOW:
            return None
        found: set[str] = set()
        if rule.host_named and self._ruleset.kind == "indicator":
            found = set(look_up(rule.host_named, self._hosts, self._corrections).categories)
        families = {TAXONOMY.family_of.get(key) for key in found}

        def beats(one: _Everywhere) -> bool:
            if one.kind == self._ruleset.kind:
                return _covers(one.rule, rule)
            return bool(one.rule.everything) or one.rule.category in found or (one.rule.family or "") in families

        return next(filter(beats, self._mandatory), None)

    def _elsewhere_than_searched(self, number: int, rule: Rule) -> Iterator[AuthoringWarning]:
        """A search term is only seen where the settings say that terms are searched for."""
        if rule.search_term:
            words = sentences.searched_only_on(sorted(self._search_pages))
            yield AuthoringWarning(code="search-pages", rule=number, sentence=words)

    def _hidden(self, number: int, rule: Rule) -> Iterator[AuthoringWarning]:
        devices = len(self._host_only)
        if not devices or rule.action is Action.ALLOW:
            return
        if rule.names_path:
            words, host = sentences.path_unseen(rule.selector.value, devices), rule.host_named
            yield AuthoringWarning(code="path-hidden", rule=number, sentence=words, devices=devices, instead=host)
        elif rule.search_term or rule.media_type:
            patterns = search_patterns(rule.search_term, self._pages) if rule.search_term else ()
            words = sentences.content_unseen(sentences.selector_words(rule), devices, patterns)
            yield AuthoringWarning(code="content-hidden", rule=number, sentence=words, devices=devices)

    def _mistyped(self, number: int, rule: Rule, host: str) -> Iterator[AuthoringWarning]:
        suffix = host.rpartition(".")[2]
        if suffix not in _RESERVED and not _suffixes.publicsuffix(host):
            yield AuthoringWarning(code="host-suffix", rule=number, sentence=sentences.suffix_unknown(host, suffix))
        if host not in self._known and self._hosts.get(host) is None:
            near = get_close_matches(host, self._known, n=1, cutoff=_NEAR)
            if near:
                words = sentences.host_near(host, near[0])
                yield AuthoringWarning(code="host-near", rule=number, sentence=words, instead=near[0])
        if host.startswith("www.") and rule.host and not rule.exact and rule.action is not Action.ALLOW:
            words = sentences.www_only(host)
            yield AuthoringWarning(code="host-www", rule=number, sentence=words, instead=host.removeprefix("www."))

    def _alone(self, number: int, rule: Rule, host: str) -> Iterator[AuthoringWarning]:
        """One that is for this very host, where others of its domain are visited too."""
        if not rule.exact or not rule.host or self._exact >= MOST_EXACT:
            return
        self._exact += 1
        others = self._beside(host)
        if others.hosts:
            words = sentences.exact_alone(host, others.hosts, others.devices, rule.action)
            yield AuthoringWarning(code="host-exact", rule=number, sentence=words, devices=others.devices)

    def _covered(self, number: int, rule: Rule) -> Iterator[AuthoringWarning]:
        """An earlier word for it: a broader rule of the same ruleset, or of one that everybody has."""
        own = [
            (f"rule {other}", one)
            for other, one in enumerate(self._ruleset.rules[:MOST_LOOKED_AT], 1)
            if other != number
        ]
        for where, other in (*own, *((one.where, one.rule) for one in self._elsewhere)):
            if other.action is rule.action and other.valid_until is None and _covers(other, rule):
                words = sentences.covered(sentences.selector_words(rule), sentences.selector_words(other), where)
                yield AuthoringWarning(code="covered", rule=number, sentence=words)
                return


def _covers(other: Rule, rule: Rule) -> bool:
    """Whether the other rule says the same of all that this one names, and more."""
    if other.selector == rule.selector:
        return True
    if rule.category is not None:
        return other.everything is not None or other.family == TAXONOMY.family_of.get(rule.category)
    if rule.family is not None:
        return other.everything is not None
    if rule.host is not None or rule.url is not None:
        host = rule.host_named or ""
        return other.host is not None and not other.exact and (host == other.host or host.endswith(f".{other.host}"))
    return False


def _known_hosts(estate: Estate, but: str) -> set[str]:
    found = {correction.host for correction in estate.corrections} | {
        host for service in estate.services for host in service.hosts
    }
    for ruleset in estate.rulesets:
        if ruleset.key != but:
            found.update(host for rule in ruleset.rules[:MOST_LOOKED_AT] if (host := rule.host_named))
    return found


class _Everywhere(NamedTuple):
    """A rule that everybody has, without conditions, with where it is."""

    where: str
    kind: RulesetKind
    mandatory: bool
    rule: Rule


def _in_force_everywhere(estate: Estate, but: str) -> Iterator[_Everywhere]:
    """The rules that everybody has, of all rulesets but one."""
    for assignment in estate.assignments:
        plain = not (
            assignment.names_people
            or assignment.schedule
            or assignment.starts
            or assignment.ends
            or assignment.until_restart
            or assignment.action
        )
        if (
            plain
            and assignment.place == "anywhere"
            and WHOLE_FLEET in assignment.to
            and assignment.state is State.ACTIVE
        ):
            other = estate.ruleset_by_key[assignment.ruleset]
            if other.key != but:
                where = wording.on(other.key, WHOLE_FLEET)
                yield from (
                    _Everywhere(where, other.kind, assignment.mandatory, rule) for rule in other.rules[:MOST_LOOKED_AT]
                )
