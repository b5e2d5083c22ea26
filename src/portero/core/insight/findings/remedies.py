"""Remedies: the change that settles a finding, made on the estate."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

from portero.core.insight.findings.companions import with_browsers_blocked, with_companion
from portero.core.insight.merging import with_assignment
from portero.core.nouns.action import Action, Override
from portero.core.nouns.assignment import State
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import Finding
from portero.core.nouns.group import BUILT_IN
from portero.core.nouns.layer import LAYERS, LayerMode, LayerName
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.settings import GroupLayers
from portero.core.nouns.urls import address_of

LONGER = timedelta(days=30)


def apply_remedy(estate: Estate, finding: Finding, key: str, now: datetime) -> Estate:
    """The estate as a remedy of one of its findings leaves it. KeyError where the finding has no such remedy."""
    if all(remedy.key != key for remedy in finding.remedies):
        raise KeyError(key)
    if key in _EXTENDING:
        return _EXTENDING[key](estate, finding, now)
    return _DEEDS[key](estate, finding)


def _longer(end: datetime, now: datetime) -> datetime:
    """A later end: of what is over already, counted from now."""
    return max(end, now) + LONGER


# --- assignments ---


def _remove_assignment(estate: Estate, finding: Finding) -> Estate:
    gone = finding.assignments[0]
    return estate.replacing(
        assignments=tuple(assignment for assignment in estate.assignments if assignment.key != gone)
    )


def _pause(estate: Estate, finding: Finding) -> Estate:
    return with_assignment(estate, finding.assignments[0], state=State.PAUSED)


def _replace_weaker(estate: Estate, finding: Finding) -> Estate:
    return with_assignment(estate, finding.assignments[0], replaces_weaker=True)


def _only_record(estate: Estate, finding: Finding) -> Estate:
    return with_assignment(estate, finding.assignments[0], action=Override.LOG)


def _extend(estate: Estate, finding: Finding, now: datetime) -> Estate:
    one = next(assignment for assignment in estate.assignments if assignment.key == finding.assignments[0])
    assert one.ends is not None
    return with_assignment(estate, one.key, ends=_longer(one.ends, now))


# --- rules ---


def _with_rules(estate: Estate, finding: Finding, edit: Callable[[Rule], Rule | None]) -> Estate:
    """The estate with the finding's rules edited, or removed where the edit gives None."""
    wanted = {(rule.ruleset, rule.selector) for rule in finding.rules}

    def other(ruleset: Ruleset) -> Ruleset:
        if all(key != ruleset.key for key, _ in wanted):
            return ruleset
        edited = [edit(rule) if (ruleset.key, str(rule.selector)) in wanted else rule for rule in ruleset.rules]
        kept = {rule.selector: rule for rule in edited if rule is not None}
        return Ruleset.model_validate({**dict(ruleset), "rules": tuple(kept.values())})

    return estate.replacing(rulesets=tuple(map(other, estate.rulesets)))


def _rule(rule: Rule, **changed: Any) -> Rule:
    return Rule.model_validate({**rule.model_dump(exclude_none=True), **changed})


def _remove_rules(estate: Estate, finding: Finding) -> Estate:
    return _with_rules(estate, finding, lambda _rule: None)


def _block_too(estate: Estate, finding: Finding) -> Estate:
    return _with_rules(estate, finding, lambda rule: _rule(rule, action=Action.BLOCK))


def _extend_rules(estate: Estate, finding: Finding, now: datetime) -> Estate:
    def longer(rule: Rule) -> Rule:
        return _rule(rule, valid_until=_longer(rule.valid_until, now)) if rule.valid_until else rule

    return _with_rules(estate, finding, longer)


def _name_hosts(estate: Estate, finding: Finding) -> Estate:
    def by_host(rule: Rule) -> Rule:
        fields = rule.model_dump(exclude_none=True, exclude={"url", "exact"})
        address = address_of(rule.host_named or "")
        whole = {"host": rule.host_named} if address is None else {"address": address}
        return Rule.model_validate({**fields, **whole})

    return _with_rules(estate, finding, by_host)


def _with_companion(estate: Estate, finding: Finding) -> Estate:
    owner = next(assignment for assignment in estate.assignments if assignment.key == finding.assignments[0])
    return with_companion(estate, owner)


def _allow_hosts(estate: Estate, finding: Finding) -> Estate:
    new = tuple(Rule(pattern=host, action=Action.ALLOW) for host in finding.hosts)
    named = {rule.selector for rule in new}

    def other(ruleset: Ruleset) -> Ruleset:
        if ruleset.key not in finding.rulesets:
            return ruleset
        kept = tuple(rule for rule in ruleset.rules if rule.selector not in named)
        return Ruleset.model_validate({**dict(ruleset), "rules": (*kept, *new)})

    return estate.replacing(rulesets=tuple(map(other, estate.rulesets)))


def _block_browsers(estate: Estate, finding: Finding) -> Estate:
    owner = next(assignment for assignment in estate.assignments if assignment.key == finding.assignments[0])
    return with_browsers_blocked(estate, owner, finding.browsers)


# --- groups ---


def _raise_group(estate: Estate, finding: Finding) -> Estate:
    winner, loser = finding.groups
    order = [key for key in estate.group_order if key not in BUILT_IN and key != loser]
    order.insert(order.index(winner), loser)
    return estate.replacing(precedence=tuple(order))


def _enforce(layer: LayerName) -> Callable[[Estate, Finding], Estate]:
    """Lets a layer enforce on the finding's first group."""

    def enforcing(estate: Estate, finding: Finding) -> Estate:
        group = finding.groups[0]
        modes = estate.layer_modes
        own = next((dict(layer_mode) for layer_mode in modes if layer_mode.group == group), {"group": group})
        others = tuple(layer_mode for layer_mode in modes if layer_mode.group != group)
        made = GroupLayers.model_validate({**own, layer: LayerMode.ENFORCING})
        return estate.replacing(layer_modes=(*others, made))

    return enforcing


_DEEDS: dict[str, Callable[[Estate, Finding], Estate]] = {
    "remove-assignment": _remove_assignment,
    "pause-assignment": _pause,
    "replace-weaker": _replace_weaker,
    "only-record": _only_record,
    "remove-rules": _remove_rules,
    "remove-allow": _remove_rules,
    "block-too": _block_too,
    "name-hosts": _name_hosts,
    "allow-hosts": _allow_hosts,
    "block-browsers": _block_browsers,
    "as-indicators": _with_companion,
    "as-site-patterns": _with_companion,
    "as-search-patterns": _with_companion,
    "raise-group": _raise_group,
    **{f"enforce-{layer}": _enforce(layer) for layer in LAYERS},
}
_EXTENDING: dict[str, Callable[[Estate, Finding, datetime], Estate]] = {
    "extend": _extend,
    "extend-rules": _extend_rules,
}
