"""Companions of site lists: the same hosts as indicators, which reach browsers that take no managed policy."""

from __future__ import annotations

from collections.abc import Collection

from portero.core.nouns.assignment import Assignment, State
from portero.core.nouns.estate import Estate
from portero.core.nouns.patterns import Pattern
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.urls import address_of

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
        fields = rule.model_dump(exclude_none=True, exclude={"pattern", "reading", "exact"})
        found.append(Rule.model_validate({**fields, **place}))
    return found


def has_companion(estate: Estate, assignment: Assignment, ruleset: Ruleset) -> bool:
    """Whether the same hosts are in force as indicators for the same machines."""
    if not (wanted := {(rule.selector, rule.action) for rule in plain_hosts(ruleset)}):
        return False
    others = (
        estate.ruleset_by_key[other.ruleset]
        for other in estate.assignments
        if other.state is State.ACTIVE and other.to == assignment.to and other.place == assignment.place
    )
    return any(
        other.kind == "indicator" and wanted <= {(rule.selector, rule.action) for rule in other.rules}
        for other in others
    )


def with_companion(estate: Estate, assignment: Assignment) -> Estate:
    """The estate with the hosts of a site list as indicators too, put where and when the list is."""
    ruleset = estate.ruleset_by_key[assignment.ruleset]
    key = _free(f"{ruleset.key}-hosts", {one.key for one in estate.rulesets})
    name = f"{(ruleset.name or ruleset.key)[:100]}, every browser"
    made = Ruleset.model_validate({"key": key, "name": name, "kind": "indicator", "rules": plain_hosts(ruleset)})
    own = {
        "key": _free(f"{assignment.key}-hosts", {one.key for one in estate.assignments}),
        "ruleset": key,
        "replaces_weaker": False,
    }
    put = Assignment.model_validate({**dict(assignment), **own})
    return estate.replacing(rulesets=(*estate.rulesets, made), assignments=(*estate.assignments, put))


def _free(key: str, taken: Collection[str]) -> str:
    """The key, or with a number behind it where it is taken or too long."""
    numbered = (f"{key[: _MOST_OF_KEY - 4]}-{number}" for number in range(2, 1000))
    return next(one for one in (key[:_MOST_OF_KEY], *numbered) if one not in taken)
