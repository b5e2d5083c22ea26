"""Restrictions as ordinary rulesets and assignments: a ruleset for each kind of rules, kept under the restriction's
key, and an assignment of each, mandatory, with an owner and an end.

Mandatory, so that no ordinary allow elsewhere opens anything, and nothing that is blocked elsewhere is let go.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta

from portero.core.insight.merging import put_in_place
from portero.core.insight.quick_rules import Written, rules_by_kind
from portero.core.insight.quick_words import Known, QuickWordProblem, people_of, target_of
from portero.core.nouns.action import Action
from portero.core.nouns.assignment import Assignment, made_key, target_name
from portero.core.nouns.estate import Estate
from portero.core.nouns.restriction import NewRestriction, RestrictionInForce
from portero.core.nouns.rule import Rule, RulesetKind
from portero.core.nouns.ruleset import Ruleset

PREFIX = "room-"
"""What the keys of rulesets of restrictions begin with."""
UNTIL_RESTART_AT_MOST = timedelta(hours=12)
_KINDS: tuple[RulesetKind, ...] = ("category", "indicator", "site", "startup")
_NO_WEB: dict[RulesetKind, Rule] = {
    "category": Rule(everything=True, action=Action.BLOCK),
    "site": Rule(pattern="*", action=Action.BLOCK),
}


def put_on(asked: NewRestriction, known: Known, by: str, reason: str | None, now: datetime) -> Estate:
    """The estate with the restriction put on. QuickWordProblem."""
    written = Written(known.estate)
    targets = {target_name(target): target for target in (target_of(word, known) for word in asked.on)}
    people = people_of(asked.people, known)
    rulesets = _rulesets(asked, known, written, now)
    estate = _without_ended(written.estate, asked.key, now)
    for ruleset in rulesets:
        estate = estate.replacing(rulesets=put_in_place(ruleset, estate.rulesets))
        if people is not None and ruleset.kind == "site":
            # browsers have a list for everybody or for nobody
            continue
        key = made_key(ruleset.key, next(iter(targets)), [one.key for one in estate.assignments])
        assignment = Assignment(
            key=key,
            ruleset=ruleset.key,
            to=tuple(targets.values()),
            mandatory=True,
            people=people,
            ends=asked.until or now + UNTIL_RESTART_AT_MOST,
            until_restart=asked.until_restart,
            owner=by,
            reason=reason or f"Restriction {asked.key}",
        )
        estate = estate.replacing(assignments=(*estate.assignments, assignment))
    return estate


def _without_ended(estate: Estate, key: str, now: datetime) -> Estate:
    """What it was put on with before, and is over."""
    keys = set(_keys(key))
    assignments = tuple(
        one for one in estate.assignments if one.ruleset not in keys or one.ends is None or one.ends > now
    )
    return estate.replacing(assignments=assignments)


def _rulesets(asked: NewRestriction, known: Known, written: Written, now: datetime) -> list[Ruleset]:
    """What is kept under the key, as it was, or as it is asked for now."""
    kept = [known.estate.ruleset_by_key[key] for key in _keys(asked.key) if key in known.estate.ruleset_by_key]
    if not asked.what and not asked.no_web:
        if not kept:
            raise QuickWordProblem(f"there is no restriction “{asked.key}” yet, so say what it is to block")
        return kept
    made = list(_made(asked, known, written))
    if _rules_of(made) != _rules_of(kept) and next(_in_force(known.estate, asked.key, now), None) is not None:
        raise QuickWordProblem(
            f"the restriction “{asked.key}” is put on now, and blocks other things; lift it first, or take another key"
        )
    if gone := {one.key for one in kept} - {one.key for one in made}:
        _take_out(written, gone)
    return made


def _made(asked: NewRestriction, known: Known, written: Written) -> Iterator[Ruleset]:
    rules = rules_by_kind(asked.what, {"action": Action.BLOCK}, known, written)
    for kind in _KINDS:
        own = [rule for _, rule in rules.get(kind, ())]
        if asked.no_web and kind in _NO_WEB:
            own = [_NO_WEB[kind], *(rule for rule in own if rule.selector != _NO_WEB[kind].selector)]
        if own:
            yield Ruleset(
                key=f"{PREFIX}{asked.key}-{kind}", name=f"Restriction {asked.key}", kind=kind, rules=tuple(own)
            )


def _take_out(written: Written, keys: Iterable[str]) -> None:
    """Rulesets that belong to it no longer, with assignments of theirs that have ended."""
    gone, estate = set(keys), written.estate
    written.estate = estate.replacing(
        assignments=tuple(one for one in estate.assignments if one.ruleset not in gone),
        rulesets=tuple(one for one in estate.rulesets if one.key not in gone),
    )


def lift(estate: Estate, key: str, on: Iterable[str]) -> Estate:
    """The estate without it; on these machines and groups alone where some are named. What it blocks stays kept."""
    keys, named = set(_keys(key)), set(on)
    assignments = []
    for one in estate.assignments:
        if one.ruleset not in keys:
            assignments.append(one)
        elif named and (left := tuple(target for target in one.to if target_name(target) not in named)):
            assignments.append(one.model_copy(update={"to": left}))
    return estate.replacing(assignments=tuple(assignments))


def kept(estate: Estate) -> list[str]:
    """The keys of all restrictions that can be put on again."""
    found: dict[str, None] = {}
    for ruleset in estate.rulesets:
        stem, _, kind = ruleset.key.removeprefix(PREFIX).rpartition("-")
        if ruleset.key.startswith(PREFIX) and kind == ruleset.kind and stem:
            found[stem] = None
    return sorted(found)


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
    keys = set(_keys(key))
    for one in estate.assignments:
        if one.ruleset in keys and one.ends is not None and one.ends > now:
            together.setdefault((one.to, one.people, one.ends, one.until_restart, one.owner, one.reason), []).append(
                one
            )
    for some in together.values():
        first, rulesets = some[0], [estate.ruleset_by_key[one.ruleset] for one in some]
        selectors = [rule.selector for ruleset in rulesets for rule in ruleset.rules]
        closing = [rule.selector for rule in _NO_WEB.values()]
        people = next((one.people for one in some if one.people), None)
        assert first.ends is not None
        yield RestrictionInForce(
            key=key,
            on=tuple(target_name(target) for target in first.to),
            what=tuple(str(selector) for selector in selectors if selector not in closing),
            no_web=_NO_WEB["category"].selector in selectors,
            people=(*people.users, *people.user_groups) if people else (),
            by=first.owner or "",
            reason=first.reason or "",
            until=first.ends,
            until_restart=first.until_restart,
            assignments=tuple(one.key for one in some),
        )


def _keys(key: str) -> list[str]:
    return [f"{PREFIX}{key}-{kind}" for kind in _KINDS]


def _rules_of(rulesets: Iterable[Ruleset]) -> dict[str, set[str]]:
    return {one.key: {str(rule.selector) for rule in one.rules} for one in rulesets}
