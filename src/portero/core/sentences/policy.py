"""What a rule, a ruleset, an assignment, a group does, and what a change did."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from portero.core.nouns.action import overridden
from portero.core.nouns.assignment import Assignment, State
from portero.core.nouns.group import Group
from portero.core.nouns.membership import Condition, ItemTest, MembershipRule, VersionBounds
from portero.core.nouns.revision import Change
from portero.core.nouns.ruleset import CategoryRule, Ruleset
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.sentences.words import VERBS, counted, joined


def selector_words(rule: CategoryRule) -> str:
    """What a rule names, in words: a category's name, or a whole family."""
    kind, value = rule.selector
    if kind == "category":
        return TAXONOMY.categories[value].name
    if kind == "family":
        return f"all of {TAXONOMY.by_family[value].name}"
    return "everything else"


def ruleset_sentence(ruleset: Ruleset) -> str:
    """What a ruleset does, the strictest first and the broadest last: “Blocks Gambling; warns on all of Pastime.”"""
    sentence = "; ".join(_does(ruleset.rules)) + "." if ruleset.rules else "does nothing yet: it has no rules."
    return sentence[0].upper() + sentence[1:]


def _does(rules: Sequence[CategoryRule]) -> list[str]:
    breadth = {"category": 0, "family": 1, "everything": 2}
    parts = []
    for action, verb in VERBS.items():
        own = sorted((rule for rule in rules if rule.action is action), key=lambda rule: breadth[rule.selector.kind])
        if own:
            words = joined([selector_words(rule) for rule in own])
            parts.append((own[-1].selector.kind == "everything", f"{verb} {words}"))
    return [part for _, part in sorted(parts, key=lambda part: part[0])]


def assignment_sentence(assignment: Assignment, ruleset: Ruleset) -> str:
    """What an assignment does: “On whole-fleet, mandatory: blocks Gambling.”"""
    rules = [rule.model_copy(update={"action": overridden(rule.action, assignment.action)}) for rule in ruleset.rules]
    marks = ", mandatory" if assignment.mandatory else ""
    if assignment.state is not State.ACTIVE:
        marks += f", {assignment.state.value} and so not in force"
    return f"On {joined(assignment.to)}{marks}: {'; '.join(_does(rules)) or 'does nothing, as it has no rules'}."


_OP_WORDS = {
    "is": "is",
    "one_of": "is one of",
    "starts_with": "starts with",
    "ends_with": "ends with",
    "contains": "contains",
    "like": "looks like",
    "under": "is under",
    "within": "lie within",
    "from": "is at least",
    "to": "is at most",
    "below": "is below",
    "older_than": "is longer ago than",
    "has": "hold one with",
}


def membership_sentence(rule: MembershipRule | None) -> str:
    """A membership rule in words: “unit is under brackwater/ships and kind is desktop”."""
    if rule is None:
        return "nobody by a rule"
    parts = []
    if rule.all:
        parts.append(joined([_branch_words(branch) for branch in rule.all]))
    if rule.any:
        some = joined([_branch_words(branch) for branch in rule.any], "or")
        parts.append(f"({some})" if rule.all and len(rule.any) > 1 else some)
    if rule.none:
        parts.append("not (" + joined([_branch_words(branch) for branch in rule.none], "or") + ")")
    return " and ".join(parts)


def _branch_words(branch: Condition | MembershipRule) -> str:
    if isinstance(branch, MembershipRule):
        return f"({membership_sentence(branch)})"
    return condition_sentence(branch)


def condition_sentence(condition: Condition) -> str:
    """A condition in words: “kind is kiosk”."""
    value = condition.value
    if isinstance(value, ItemTest):
        words = joined([_item_field(name, wanted) for name, wanted in value.given.items()])
    else:
        words = value if isinstance(value, str) else joined(value, "or")
    return f"{condition.field} {_OP_WORDS[condition.op]} {words}"


def _item_field(name: str, wanted: Any) -> str:
    if isinstance(wanted, VersionBounds):
        return joined([f"version {_OP_WORDS[op].removeprefix('is ')} {value}" for op, value in wanted.given()])
    if isinstance(wanted, bool):
        return name if wanted else f"not {name}"
    return f"{name} {wanted}"


def group_sentence(group: Group) -> str:
    """Whom a group holds, in words: its rule, and how many are pinned."""
    parts = [membership_sentence(group.members)]
    pins = group.pins
    if pins and pins.in_:
        parts.append(f"{counted(len(pins.in_), 'machine')} pinned in")
    if pins and pins.out:
        parts.append(f"{counted(len(pins.out), 'machine')} pinned out")
    return "; ".join(parts)


def change_sentence(change: Change) -> str:
    """What one change did: “changed ruleset no-gambling”, with the state where an assignment's state moved."""
    if change.noun == "precedence":
        return "changed the order of groups"
    if change.noun == "settings":
        return "changed the settings"
    if change.noun == "assignment" and change.verb == "changed" and change.before and change.after:
        before, after = change.before.get("state"), change.after.get("state")
        if before != after:
            verb = {"paused": "paused", "active": "put in force", "draft": "took back to draft"}[str(after)]
            return f"{verb} assignment {change.key}"
    if change.noun == "assignment" and change.verb == "created" and change.after:
        return f"assigned {change.after['ruleset']} to {joined(change.after['to'])}"
    return f"{change.verb} {change.noun} {change.key}"


def summary_of(changes: Iterable[Change]) -> str:
    """What a revision did, in one sentence; many changes are counted by noun."""
    listed = list(changes)
    if len(listed) <= 3:
        sentence = joined([change_sentence(change) for change in listed]) or "changed nothing"
    else:
        counts: dict[tuple[str, str], int] = {}
        for change in listed:
            counts[change.verb, change.noun] = counts.get((change.verb, change.noun), 0) + 1
        sentence = joined([f"{verb} {counted(number, noun)}" for (verb, noun), number in counts.items()])
    return sentence[0].upper() + sentence[1:]
