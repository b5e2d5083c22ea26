"""Rules in few words, put where such rules of a place are kept: a ruleset and an assignment, which are found or made.

For each kind of rules, each place and each choice of people there is one ruleset, put there by one plain assignment.
The last word counts: a rule for the same takes the place of the one before.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from itertools import count
from typing import Any

from pydantic import ValidationError

from portero.core.insight.merging import put_in_place
from portero.core.insight.quick_words import (
    Known,
    QuickWordProblem,
    meaning_of,
    people_of,
    program_of,
    rule_of,
    target_of,
)
from portero.core.nouns.application_set import ApplicationCondition, ApplicationSet
from portero.core.nouns.assignment import Assignment, People, Target, made_key, target_name
from portero.core.nouns.estate import Estate
from portero.core.nouns.faults import fault_of
from portero.core.nouns.quick_rule import QuickRuleKept, QuickRules
from portero.core.nouns.rule import SELECTORS, Rule, RulesetKind
from portero.core.nouns.ruleset import Ruleset

PREFIX = "quick-"
"""What the keys of rulesets of quick rules begin with."""
_MOST_OF_KEY = 56
_KIND_OF = {selector: kind for kind, names in SELECTORS.items() for selector in names if selector != "everything"}
_TOLD = {"key", "ruleset", *Assignment.told_only}


@dataclass
class Written:
    """The estate with quick rules, and where each is kept."""

    estate: Estate
    kept: list[QuickRuleKept] = field(default_factory=list)
    application_sets: list[str] = field(default_factory=list)


def write_quick_rules(asked: QuickRules, known: Known) -> Written:
    """Put quick rules where they belong. QuickWordProblem, where nothing is put anywhere."""
    written = Written(known.estate)
    targets = {target_name(target): target for target in (target_of(word, known) for word in asked.on)}
    people = people_of(asked.people, known)
    rules = rules_by_kind(asked.what, {"action": asked.action, "valid_until": asked.until}, known, written)
    for target in targets.values():
        for kind, some in rules.items():
            _keep(written, kind, some, target, people)
    return written


def rules_by_kind(
    words: Iterable[str], said: dict[str, Any], known: Known, written: Written
) -> dict[RulesetKind, list[tuple[str, Rule]]]:
    """The rules that words mean, each with its word, with what is `said` of all of them; sets are made in `written`.
    QuickWordProblem.
    """
    rules: dict[RulesetKind, list[tuple[str, Rule]]] = {}
    for word in dict.fromkeys(words):
        rule = _rule(word, known, written, said)
        rules.setdefault(_KIND_OF[rule.selector.kind], []).append((word, rule))
    return rules


def _rule(word: str, known: Known, written: Written, said: dict[str, Any]) -> Rule:
    meaning = meaning_of(word, known)
    if meaning.kind != "program":
        return rule_of(word, {meaning.kind: meaning.value, **said})
    program = program_of(meaning.value, known)
    if program.sha256 is not None:
        return rule_of(word, {"sha256": program.sha256, **said})
    own = program.application_set or _set_of(program.product or "", written)
    return rule_of(word, {"application_set": own, **said})


def _set_of(product: str, written: Written) -> str:
    """The application set of a product and nothing else; it is made where there is none."""
    estate, include = written.estate, (ApplicationCondition(product=product),)
    for one in estate.application_sets:
        if one.following and not one.exclude and _folded(one.include) == _folded(include):
            return one.key
    key = _free(_slug(product) or "program", estate.application_set_by_key)
    made = ApplicationSet(key=key, name=product[:120], include=include)
    written.estate = estate.replacing(application_sets=(*estate.application_sets, made))
    written.application_sets.append(key)
    return key


def _folded(conditions: Iterable[ApplicationCondition]) -> list[dict[str, Any]]:
    return [
        {name: value.casefold() if isinstance(value, str) else value for name, value in one if value is not None}
        for one in conditions
    ]


def _keep(
    written: Written, kind: RulesetKind, rules: Iterable[tuple[str, Rule]], target: Target, people: People | None
) -> None:
    """Put rules, each with its word, into the ruleset of their kind, place and people."""
    estate = written.estate
    assignment = _kept_at(estate, kind, target, people)
    made = assignment is None
    if assignment is None:
        ruleset, assignment = _begun(estate, kind, target, people)
    else:
        ruleset = estate.ruleset_by_key[assignment.ruleset]
    for word, rule in rules:
        before = next((one for one in ruleset.rules if one.selector == rule.selector), None)
        ruleset = _with(ruleset, rule, before, word)
        told = QuickRuleKept(
            word=word,
            on=target_name(target),
            kind=kind,
            selector=str(rule.selector),
            ruleset=ruleset.key,
            assignment=assignment.key,
            made=made,
            before=before.action if before else None,
        )
        written.kept.append(told)
    written.estate = estate.replacing(
        rulesets=put_in_place(ruleset, estate.rulesets), assignments=put_in_place(assignment, estate.assignments)
    )


def _with(ruleset: Ruleset, rule: Rule, before: Rule | None, word: str) -> Ruleset:
    if before is not None:
        said = rule.model_copy(update={"name": before.name, "note": before.note})
        rules = tuple(said if one is before else one for one in ruleset.rules)
    else:
        rules = (*ruleset.rules, rule)
    try:
        return Ruleset.model_validate({**ruleset.model_dump(exclude={"rules"}), "rules": rules})
    except ValidationError as problem:
        raise QuickWordProblem(f"{word[:80]}: {fault_of(problem.errors()[0])}") from problem


def _kept_at(estate: Estate, kind: RulesetKind, target: Target, people: People | None) -> Assignment | None:
    """The assignment by which quick rules of that kind are put there, for those people; as plain as it was made."""
    users: dict[str, int] = {}
    for assignment in estate.assignments:
        users[assignment.ruleset] = users.get(assignment.ruleset, 0) + 1
    for assignment in estate.assignments:
        ruleset = estate.ruleset_by_key[assignment.ruleset]
        if not ruleset.key.startswith(PREFIX) or ruleset.kind != kind or users[ruleset.key] > 1:
            continue
        plain = Assignment(key=assignment.key, ruleset=ruleset.key, to=(target,), people=people)
        if plain.model_dump(exclude=_TOLD) == assignment.model_dump(exclude=_TOLD):
            return assignment
    return None


def _begun(estate: Estate, kind: RulesetKind, target: Target, people: People | None) -> tuple[Ruleset, Assignment]:
    """A ruleset for quick rules there, without rules yet, and the assignment that puts it there."""
    place = target_name(target)
    key = _free(f"{PREFIX}{kind}-{_slug(place)}", estate.ruleset_by_key)
    of_whom = [*people.user_groups, *people.users] if people else []
    told = f"Quick rules for {place}" + (f", {', '.join(of_whom)} only" if of_whom else "")
    ruleset = Ruleset(key=key, name=told if len(told) <= 120 else told[:119] + "…", kind=kind)
    taken = [assignment.key for assignment in estate.assignments]
    return ruleset, Assignment(key=made_key(key, place, taken), ruleset=key, to=(target,), people=people)


def _slug(text: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")


def _free(key: str, taken: Iterable[str]) -> str:
    base, used = key[:_MOST_OF_KEY].rstrip("-"), set(taken)
    tried = (base if number == 1 else f"{base}-{number}" for number in count(1))
    return next(one for one in tried if one not in used)
