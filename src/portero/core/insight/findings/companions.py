"""Companions: the hosts of a site list as indicators too, which reach browsers that take no managed policy; and the
paths of indicators as site patterns too, which managed browsers see over https.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

from portero.core.by_identity import ByIdentity
from portero.core.matching.applications import SetTest, Started
from portero.core.matching.searches import search_patterns
from portero.core.nouns.action import Action
from portero.core.nouns.application_set import ApplicationCondition, ApplicationSet
from portero.core.nouns.assignment import Assignment, State
from portero.core.nouns.device import Application
from portero.core.nouns.estate import Estate
from portero.core.nouns.patterns import Pattern
from portero.core.nouns.rule import Rule, RulesetKind
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.settings import SearchPage
from portero.core.nouns.urls import address_of

_OTHER: dict[RulesetKind, RulesetKind] = {"site": "indicator", "indicator": "site", "category": "site"}
_SUFFIX = {"site": "hosts", "indicator": "sites", "category": "searches"}
_CALLED = {"site": "every browser", "indicator": "managed browsers", "category": "searches in managed browsers"}
_ANY_PAGE = Pattern("", "", True, None, "", ())
_MOST_OF_KEY = 64


def plain_hosts(ruleset: Ruleset) -> list[Rule]:
    """The rules of a site ruleset as rules on indicators; none where one of them names more, or less, than hosts."""
    found = []
    for rule in ruleset.rules:
        pattern = Pattern.of(rule.pattern or "")
        if pattern._replace(host="", below=True) != _ANY_PAGE or not pattern.host:
            return []
        address = address_of(pattern.host)
        place = {"host": pattern.host, "exact": not pattern.below} if address is None else {"address": address}
        fields = rule.model_dump(exclude_none=True, exclude={"pattern", "reading", "exact", "address_list"})
        found.append(Rule.model_validate({**fields, **place}))
    return found


def path_patterns(ruleset: Ruleset) -> list[Rule]:
    """The rules of an indicator ruleset that name a path, as rules on site patterns; none where one of them cannot be
    said so: a URL by itself alone, one with a query, a warning.
    """
    found = []
    for rule in ruleset.rules:
        if not rule.names_path:
            continue
        if rule.exact or "?" in (rule.url or "") or rule.action not in (Action.BLOCK, Action.ALLOW):
            return []
        fields = rule.model_dump(exclude_none=True, exclude={"url", "exact", "address_list"})
        found.append(Rule.model_validate({**fields, "pattern": rule.url}))
    return found


def term_patterns(ruleset: Ruleset, pages: Sequence[SearchPage]) -> list[Rule]:
    """The blocks of search terms as rules on site patterns, of those browsers that see a query."""
    places = [(page.host, page.parameter) for page in pages]
    return [
        Rule(pattern=pattern, reading="left-out", action=rule.action, note=rule.note, valid_until=rule.valid_until)
        for rule in ruleset.rules
        if rule.search_term and rule.action is Action.BLOCK
        for pattern in search_patterns(rule.search_term, places)
    ]


_plain_hosts, _path_patterns = ByIdentity(plain_hosts), ByIdentity(path_patterns)


def companion_rules(estate: Estate, ruleset: Ruleset) -> list[Rule]:
    """What a companion of a ruleset would say; nothing where there can be none."""
    if ruleset.kind == "site":
        return _plain_hosts.of(ruleset)
    if ruleset.kind == "category":
        return term_patterns(ruleset, estate.settings.search_pages)
    return _path_patterns.of(ruleset)


def may_have_companion(estate: Estate, assignment: Assignment, ruleset: Ruleset) -> bool:
    """Whether it can be said by the other means, where it is put: site lists are for whole machines, not for people."""
    return bool(companion_rules(estate, ruleset)) and (ruleset.kind == "site" or not assignment.names_people)


def has_companion(estate: Estate, assignment: Assignment, ruleset: Ruleset) -> bool:
    """Whether the same is in force by the other means for the same machines."""
    if not (wanted := {(rule.selector, rule.action) for rule in companion_rules(estate, ruleset)}):
        return False
    others = (
        estate.ruleset_by_key[other.ruleset]
        for other in estate.assignments
        if other.state is State.ACTIVE and other.to == assignment.to and other.place == assignment.place
    )
    return any(
        other.kind == _OTHER[ruleset.kind] and wanted <= {(rule.selector, rule.action) for rule in other.rules}
        for other in others
    )


def with_companion(estate: Estate, assignment: Assignment) -> Estate:
    """The estate with what a ruleset says said by the other means too, put where and when the ruleset is."""
    ruleset = estate.ruleset_by_key[assignment.ruleset]
    kind, suffix = ruleset.kind, _SUFFIX[ruleset.kind]
    key = _free(f"{ruleset.key}-{suffix}", {one.key for one in estate.rulesets})
    name = f"{(ruleset.name or ruleset.key)[:80]}, {_CALLED[kind]}"
    rules = companion_rules(estate, ruleset)
    made = Ruleset.model_validate({"key": key, "name": name, "kind": _OTHER[kind], "rules": rules})
    own = {
        "key": _free(f"{assignment.key}-{suffix}", {one.key for one in estate.assignments}),
        "ruleset": key,
        "replaces_weaker": False,
    }
    put = Assignment.model_validate({**dict(assignment), **own})
    return estate.replacing(rulesets=(*estate.rulesets, made), assignments=(*estate.assignments, put))


# --- browsers that nobody governs, kept from starting ---


def browsers_are_blocked(estate: Estate, assignment: Assignment, names: Collection[str]) -> bool:
    """Whether programs of these names are kept from starting, for everybody, where a site list is put."""
    others = [
        estate.ruleset_by_key[other.ruleset]
        for other in estate.assignments
        if other.state is State.ACTIVE and other.to == assignment.to and not other.names_people
    ]
    tests = [
        SetTest(estate.application_set_by_key[rule.application_set], estate.application_set_by_key)
        for ruleset in others
        for rule in ruleset.rules
        if rule.application_set is not None and rule.action is Action.BLOCK
    ]
    programs = [Started.of(Application(file=name), {}, {}) for name in names]
    return bool(programs) and all(
        any(test.fit(program).narrowness is not None for test in tests) for program in programs
    )


def with_browsers_blocked(estate: Estate, assignment: Assignment, names: Collection[str]) -> Estate:
    """The estate in which these browsers do not start where a site list is put: by the names of their programs."""
    key = _free(f"{assignment.ruleset}-browsers", {*estate.ruleset_by_key, *estate.application_set_by_key})
    told = f"Browsers that nobody governs, beside {assignment.ruleset}"[:120]
    held = ApplicationSet(key=key, name=told, include=tuple(ApplicationCondition(file=name) for name in names))
    made = Ruleset(key=key, name=told, kind="startup", rules=(Rule(application_set=key, action=Action.BLOCK),))
    own = {
        "key": _free(f"{assignment.key}-browsers", {one.key for one in estate.assignments}),
        "ruleset": key,
        "replaces_weaker": False,
    }
    put = Assignment.model_validate({**dict(assignment), **own})
    return estate.replacing(
        application_sets=(*estate.application_sets, held),
        rulesets=(*estate.rulesets, made),
        assignments=(*estate.assignments, put),
    )


def _free(key: str, taken: Collection[str]) -> str:
    """The key, or with a number behind it where it is taken or too long."""
    numbered = (f"{key[: _MOST_OF_KEY - 4]}-{number}" for number in range(2, 1000))
    return next(one for one in (key[:_MOST_OF_KEY], *numbered) if one not in taken)
