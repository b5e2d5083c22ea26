"""Restrictions as ordinary rulesets and assignments: a ruleset for each kind of rules, kept under the restriction's
key, and an assignment of each, mandatory, with an owner and an end.

Mandatory, so that no ordinary allow elsewhere opens anything, and nothing that is blocked elsewhere is let go.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime, timedelta
from typing import NamedTuple

from portero.core.insight.merging import put_in_place
from portero.core.insight.quick_rules import Written, rules_by_kind
from portero.core.insight.quick_words import Known, QuickWordProblem, people_of, target_of
from portero.core.insight.unreached_browsers import unreached_browsers
from portero.core.matching.members import Member
from portero.core.nouns.action import Action
from portero.core.nouns.application_set import ApplicationCondition, ApplicationSet
from portero.core.nouns.assignment import Assignment, People, Target, made_key, target_name
from portero.core.nouns.estate import Estate
from portero.core.nouns.restriction import PREFIX, BrowserNotReached, NewRestriction, RestrictionInForce, restriction_of
from portero.core.nouns.rule import Rule, RulesetKind
from portero.core.nouns.ruleset import Ruleset

UNTIL_RESTART_AT_MOST = timedelta(hours=12)
_KINDS: tuple[RulesetKind, ...] = ("category", "indicator", "site", "startup")
_NO_WEB: dict[RulesetKind, Rule] = {
    "category": Rule(everything=True, action=Action.BLOCK),
    "site": Rule(pattern="*", action=Action.BLOCK),
}


class PutOn(NamedTuple):
    """The estate with a restriction, and the browsers that it does not reach."""

    estate: Estate
    not_reached: tuple[BrowserNotReached, ...]


def targets_of(words: Iterable[str], known: Known) -> tuple[Target, ...]:
    """The groups and machines that words mean, each once. QuickWordProblem."""
    return tuple({target_name(target): target for target in (target_of(word, known) for word in words)}.values())


def targets_in_force(estate: Estate, key: str, now: datetime) -> tuple[Target, ...]:
    """The groups and machines that it is put on now, each once."""
    found = {target_name(target): target for one in _assignments(estate, key, now) for target in one.to}
    return tuple(found.values())


def _assignments(estate: Estate, key: str, now: datetime) -> Iterator[Assignment]:
    """Those by which it is put on now."""
    keys = set(_keys(key))
    return (one for one in estate.assignments if one.ruleset in keys and one.ends is not None and one.ends > now)


def put_on(
    asked: NewRestriction, known: Known, machines: Sequence[Member], by: str, reason: str | None, now: datetime
) -> PutOn:
    """Put it on; `machines` are those that are meant now. QuickWordProblem."""
    written, targets = Written(known.estate), targets_of(asked.on, known)
    people = _signed_in(machines) if asked.signed_in else people_of(asked.people, known)
    rulesets = _rulesets(asked, known, written, now)
    not_reached: tuple[BrowserNotReached, ...] = ()
    if any(_NO_WEB["category"].selector == rule.selector for ruleset in rulesets for rule in ruleset.rules):
        not_reached = unreached_browsers(machines, written.estate.coverage_table, site_lists=people is None)
        rulesets = _with_browsers_blocked(asked.key, written, rulesets, [one.name for one in not_reached])
    estate = _without_ended(written.estate, now)
    for ruleset in rulesets:
        estate = estate.replacing(rulesets=put_in_place(ruleset, estate.rulesets))
        if people is not None and ruleset.kind == "site":
            # browsers have a list for everybody or for nobody
            continue
        key = made_key(ruleset.key, target_name(targets[0]), [one.key for one in estate.assignments])
        assignment = Assignment(
            key=key,
            ruleset=ruleset.key,
            to=targets,
            mandatory=True,
            people=people,
            ends=asked.until or now + UNTIL_RESTART_AT_MOST,
            until_restart=asked.until_restart,
            owner=by,
            reason=reason or f"Restriction {asked.key}",
        )
        estate = estate.replacing(assignments=(*estate.assignments, assignment))
    return PutOn(estate, not_reached)


def _signed_in(machines: Iterable[Member]) -> People:
    """The people who are signed in on some of these machines. QuickWordProblem where nobody is."""
    found = {name.casefold() for machine in machines for name in machine.facts.signed_in}
    if not found:
        raise QuickWordProblem("nobody is signed in on these machines now, as far as they have told")
    return People(users=tuple(sorted(found)))


def _with_browsers_blocked(
    key: str, written: Written, rulesets: Sequence[Ruleset], names: Sequence[str]
) -> list[Ruleset]:
    """Those rulesets, with a rule that keeps these browsers from starting, beside those that it kept before."""
    own = _browsers_key(key)
    kept = written.estate.application_set_by_key.get(own)
    all_names = sorted({*names, *(one.file for one in (kept.include if kept else ()) if one.file)})
    if not all_names:
        return list(rulesets)
    conditions = tuple(ApplicationCondition(file=name) for name in all_names)
    held = ApplicationSet(key=own, name=f"Restriction {key}: browsers", include=conditions)
    written.estate = written.estate.replacing(application_sets=put_in_place(held, written.estate.application_sets))
    rule = _browsers_rule(key)
    startup = next((one for one in rulesets if one.kind == "startup"), None) or _ruleset(key, "startup", ())
    if all(one.selector != rule.selector for one in startup.rules):
        startup = _ruleset(key, "startup", (*startup.rules, rule))
    return [*(one for one in rulesets if one.kind != "startup"), startup]


def _without_ended(estate: Estate, now: datetime) -> Estate:
    """Without restrictions that are over."""
    keys = {own for key in kept(estate) for own in _keys(key)}
    assignments = tuple(
        one for one in estate.assignments if one.ruleset not in keys or one.ends is None or one.ends > now
    )
    return estate.replacing(assignments=assignments)


def _rulesets(asked: NewRestriction, known: Known, written: Written, now: datetime) -> list[Ruleset]:
    """What is kept under the key, as it was, or as it is asked for now."""
    had = [known.estate.ruleset_by_key[key] for key in _keys(asked.key) if key in known.estate.ruleset_by_key]
    if not asked.what and not asked.no_web:
        if not had:
            raise QuickWordProblem(f"there is no restriction “{asked.key}” yet, so say what it is to block")
        return had
    made = list(_made(asked, known, written))
    if next(_in_force(known.estate, asked.key, now), None) is None:
        _take_out(written, {one.key for one in had} - {one.key for one in made})
    elif _rules_of(asked.key, made) != _rules_of(asked.key, had):
        raise QuickWordProblem(
            f"the restriction “{asked.key}” is put on now, and blocks other things; lift it first, or take another key"
        )
    return made


def _made(asked: NewRestriction, known: Known, written: Written) -> Iterator[Ruleset]:
    rules = rules_by_kind(asked.what, {"action": Action.BLOCK}, known, written)
    for kind in _KINDS:
        own = [rule for _, rule in rules.get(kind, ())]
        if asked.no_web and kind in _NO_WEB:
            own = [_NO_WEB[kind], *(rule for rule in own if rule.selector != _NO_WEB[kind].selector)]
        if own:
            yield _ruleset(asked.key, kind, own)


def _ruleset(key: str, kind: RulesetKind, rules: Iterable[Rule]) -> Ruleset:
    return Ruleset(key=f"{PREFIX}{key}-{kind}", name=f"Restriction {key}", kind=kind, rules=tuple(rules))


def _take_out(written: Written, keys: Iterable[str]) -> None:
    """Rulesets that belong to it no longer, with assignments of theirs that have ended."""
    gone, estate = set(keys), written.estate
    written.estate = estate.replacing(
        assignments=tuple(one for one in estate.assignments if one.ruleset not in gone),
        rulesets=tuple(one for one in estate.rulesets if one.key not in gone),
    )


def lift(estate: Estate, key: str, on: Iterable[str], now: datetime) -> Estate:
    """The estate without it, and without others that are over; on these machines and groups alone where some are
    named. What it blocks stays kept.
    """
    keys, named = set(_keys(key)), set(on)
    assignments = []
    for one in _without_ended(estate, now).assignments:
        if one.ruleset not in keys:
            assignments.append(one)
        elif named and (left := tuple(target for target in one.to if target_name(target) not in named)):
            assignments.append(one.model_copy(update={"to": left}))
    return estate.replacing(assignments=tuple(assignments))


def kept(estate: Estate) -> list[str]:
    """The keys of all restrictions that can be put on again."""
    return sorted({key for one in estate.rulesets if (key := restriction_of(one)) is not None})


def blocks_sites(estate: Estate, key: str) -> bool:
    """Whether what is kept under the key has site patterns."""
    return any(estate.ruleset_by_key[one].kind == "site" for one in _keys(key) if one in estate.ruleset_by_key)


def in_force(estate: Estate, now: datetime) -> list[RestrictionInForce]:
    """What is put on now, the one that ends first before the others."""
    found = [one for key in kept(estate) for one in _in_force(estate, key, now)]
    return sorted(found, key=lambda one: (one.until, one.key))


def _in_force(estate: Estate, key: str, now: datetime) -> Iterator[RestrictionInForce]:
    """Assignments of its rulesets that were made together are one restriction."""
    together: dict[tuple[object, ...], list[Assignment]] = {}
    for one in _assignments(estate, key, now):
        made = (one.to, one.people, one.ends, one.until_restart, one.owner, one.reason)
        together.setdefault(made, []).append(one)
    for some in together.values():
        first, rulesets = some[0], [estate.ruleset_by_key[one.ruleset] for one in some]
        selectors = [rule.selector for ruleset in rulesets for rule in ruleset.rules]
        of_browsers = _browsers_rule(key).selector
        browsers = estate.application_set_by_key[_browsers_key(key)].include if of_browsers in selectors else ()
        closing = [*(rule.selector for rule in _NO_WEB.values()), of_browsers]
        people = next((one.people for one in some if one.people), None)
        assert first.ends is not None
        yield RestrictionInForce(
            key=key,
            on=tuple(target_name(target) for target in first.to),
            what=tuple(str(selector) for selector in selectors if selector not in closing),
            no_web=_NO_WEB["category"].selector in selectors,
            browsers=tuple(one.file for one in browsers if one.file),
            people=(*people.users, *people.user_groups) if people else (),
            by=first.owner or "",
            reason=first.reason or "",
            until=first.ends,
            until_restart=first.until_restart,
            assignments=tuple(one.key for one in some),
        )


def _keys(key: str) -> list[str]:
    return [f"{PREFIX}{key}-{kind}" for kind in _KINDS]


def _browsers_key(key: str) -> str:
    """Of the set of browsers that no web rule reaches."""
    return f"{PREFIX}{key}-browsers"


def _browsers_rule(key: str) -> Rule:
    return Rule(application_set=_browsers_key(key), action=Action.BLOCK)


def _rules_of(key: str, rulesets: Iterable[Ruleset]) -> dict[str, set[str]]:
    """What rulesets of a restriction block, by their keys; not what depends on the browsers that machines have."""
    left_out = _browsers_rule(key).selector
    found = {one.key: {str(rule.selector) for rule in one.rules if rule.selector != left_out} for one in rulesets}
    return {key: selectors for key, selectors in found.items() if selectors}
