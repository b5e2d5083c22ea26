"""What a rule, a ruleset, an assignment, a group does, and what a change did."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from portero.core.nouns.action import Override, overridden
from portero.core.nouns.application_set import Member
from portero.core.nouns.assignment import Assignment, State, target_name
from portero.core.nouns.device import Application
from portero.core.nouns.group import Group
from portero.core.nouns.membership import Condition, ItemTest, MembershipRule, VersionBounds
from portero.core.nouns.revision import Change
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.selector import Selector
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.wording import VERBS, counted, joined

MOST_NAMED = 6
"""How many things a sentence names before it counts the rest."""

_BROADEST_LAST = ("family", "address", "decision", "suitability", "everything", "pattern")
_PLURALS = {
    "category": "categories",
    "family": "families",
    "search_term": "search terms",
    "media_type": "media types",
    "url": "URLs",
    "address": "addresses",
    "suitability": "suitability bounds",
    "application_set": "application sets",
    "sha256": "programs",
}


def selector_words(rule: Rule) -> str:
    """What a rule names, in words: a category's name, a host, services of some suitability."""
    return selected_words(rule.selector)


def selected_words(selector: Selector) -> str:
    """What a selector matches, in words."""
    kind, value, exact = selector
    if kind == "category":
        return TAXONOMY.categories[value].name
    if kind == "family":
        return f"all of {TAXONOMY.by_family[value].name}"
    words = {
        "everything": "everything else",
        "pattern": "every other site" if value == "*" else value,
        "host": f"{value} alone" if exact else value,
        "url": f"{value} alone" if exact else value,
        "search_term": f"searches for “{value}”",
        "media_type": f"{value} content",
        "service": f"the service {value}",
        "decision": f"services that are {value}",
        "application_set": f"the programs of {value}",
        "sha256": f"the program {value[:12]}…",
    }
    if kind == "suitability":
        return f"services with {selector}"
    return words.get(kind, value)


def ruleset_sentence(ruleset: Ruleset) -> str:
    """What a ruleset does, the strictest first and the broadest last: “Blocks Gambling; warns on all of Pastime.”"""
    does = _does(ruleset)
    sentence = "; ".join(does) + "." if does else "does nothing yet: it has no rules."
    return sentence[0].upper() + sentence[1:]


def _does(ruleset: Ruleset, override: Override | None = None) -> list[str]:
    """What it does, action by action: of its own rules, and of what its address lists have."""
    rules = ruleset.own_rules
    if len(rules) == 1 and _is_rest(rules[0]) and not ruleset.includes:
        whole = {"everything": "everything", "pattern": "every site"}[rules[0].selector.kind]
        return [f"{VERBS[overridden(rules[0].action, override)]} {whole}"]
    parts = []
    for action, verb in VERBS.items():
        own = [rule for rule in rules if overridden(rule.action, override) is action]
        own.sort(key=lambda rule: (_breadth(rule), _is_rest(rule)))
        is_rest = bool(own) and _is_rest(own[-1])
        lists = [one.address_list for one in ruleset.includes if overridden(one.action, override) is action]
        words = _named(own) + [f"what {joined(lists)} {'lists' if len(lists) == 1 else 'list'}"] * bool(lists)
        if is_rest and lists:
            words[-2:] = [words[-1], words[-2]]
        if words:
            parts.append((is_rest, f"{verb} {joined(words)}"))
    return [part for _, part in sorted(parts, key=lambda part: part[0])]


def _breadth(rule: Rule) -> int:
    kind = rule.selector.kind
    return _BROADEST_LAST.index(kind) + 1 if kind in _BROADEST_LAST else 0


def _is_rest(rule: Rule) -> bool:
    return rule.selector.kind == "everything" or rule.selector == ("pattern", "*", False)


def _named(rules: Sequence[Rule]) -> list[str]:
    """The first few by name, the others counted."""
    if len(rules) <= MOST_NAMED:
        return [selector_words(rule) for rule in rules]
    named, rest = rules[: MOST_NAMED - 2], rules[MOST_NAMED - 2 :]
    kinds = {rule.selector.kind for rule in rest}
    noun = kinds.pop() if len(kinds) == 1 else "rule"
    return [*(selector_words(rule) for rule in named), counted(len(rest), f"more {noun}", _more(noun))]


def _more(noun: str) -> str:
    return f"more {_PLURALS.get(noun, noun + 's')}"


_PLACES = {"on-site": "on-site", "off-site": "off-site"}


def assignment_sentence(assignment: Assignment, ruleset: Ruleset) -> str:
    """What an assignment does: “On whole-fleet, mandatory: blocks Gambling.”"""
    does = "; ".join(_does(ruleset, assignment.action)) or "does nothing, as it has no rules"
    where = joined([target_name(target) for target in assignment.to])
    return f"On {where}{''.join(_conditions(assignment))}: {does}."


def assignment_conditions(assignment: Assignment) -> str:
    """For whom, when, where and how strongly, in words: “for pursers, during rest-hours”; empty where always."""
    return "".join(_conditions(assignment)).removeprefix(", ")


def _conditions(assignment: Assignment) -> Iterator[str]:
    """For whom, when, where and how strongly, each behind a comma; what goes without saying is left out."""
    people = assignment.people
    if people and assignment.names_people:
        yield f", for {joined([*people.users, *people.user_groups])}"
    if assignment.place in _PLACES:
        yield f", while {_PLACES[assignment.place]}"
    if assignment.schedule:
        yield f", during {assignment.schedule}"
    if assignment.starts:
        yield f", from {moment_words(assignment.starts)}"
    if assignment.ends:
        yield f", until {moment_words(assignment.ends)}"
    if assignment.until_restart:
        yield ", until the machine restarts"
    if assignment.mandatory:
        yield ", mandatory"
    if assignment.replaces_weaker:
        yield ", in place of what weaker groups have"
    if assignment.hold_back is not None:
        yield f", what comes later only logged for {_duration(assignment.hold_back)} first"
    if assignment.end_running:
        yield ", ending what runs already"
    if assignment.state is not State.ACTIVE:
        yield f", {assignment.state.value} and so not in force"


def _duration(span: timedelta) -> str:
    hours = span // timedelta(hours=1)
    return counted(hours, "hour") if hours % 24 else counted(hours // 24, "day")


def program_words(program: Application) -> str:
    """A program as people know it: “Chart Table 3.2”, else its file or path, else its SHA-256 in short."""
    name = program.product or program.file or program.path
    if name is None:
        return f"{(program.sha256 or '')[:12]}…"
    return f"{name} {program.version}" if program.version else name


def member_words(member: Member) -> str:
    """A program that a list keeps: “Chart Table 3.2”, or by its SHA-256 in short."""
    if isinstance(member, str):
        return f"{member[:12]}…"
    return " ".join(filter(None, (member.product or member.path or member.file, member.version)))


def moment_words(moment: datetime) -> str:
    """A moment, in UTC: “2026-12-01 08:00 UTC”."""
    return f"{moment.astimezone(UTC):%Y-%m-%d %H:%M} UTC"


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


def bounds_words(bounds: VersionBounds) -> str:
    """Bounds of a version in words: “version below 4.2”."""
    return "version " + joined([f"{_OP_WORDS[op].removeprefix('is ')} {value}" for op, value in bounds.given()])


def _item_field(name: str, wanted: Any) -> str:
    if isinstance(wanted, VersionBounds):
        return bounds_words(wanted)
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


_AHEAD = {
    "created": "create",
    "changed": "change",
    "removed": "remove",
    "assigned": "assign",
    "paused": "pause",
    "took back to draft": "take back to draft",
}
"""What was done, and what would be; a verb that is not here is the same in both."""
_STATES = {"paused": "paused", "active": "put in force", "draft": "took back to draft"}


def change_sentence(change: Change, ahead: bool = False) -> str:
    """What one change did, or `ahead` of it would do: “changed ruleset no-gambling”, “would change ruleset
    no-gambling”; with the state where an assignment's state moved, and the change request that it goes back to.
    """
    return f"would {_told(change, ahead)}" if ahead else _told(change, ahead)


def _told(change: Change, ahead: bool) -> str:
    verb, rest = _change(change)
    ticket = (change.after or {}).get("ticket") if change.noun == "assignment" else None
    return f"{_AHEAD.get(verb, verb) if ahead else verb} {rest}{f' ({ticket})' if ticket else ''}"


def _change(change: Change) -> tuple[str, str]:
    """The verb, as what was done, and what to."""
    if change.noun == "precedence":
        return "changed", "the order of groups"
    if change.noun == "settings":
        return "changed", "the settings"
    if change.noun == "assignment" and change.verb == "changed" and change.before and change.after:
        before, after = change.before.get("state"), change.after.get("state")
        if before != after:
            return _STATES[str(after)], f"assignment {change.key}"
    if change.noun == "assignment" and change.verb == "created" and change.after:
        targets = [target if isinstance(target, str) else target["device"] for target in change.after["to"]]
        state = change.after.get("state", "active")
        idle = "" if state == "active" else f" as {_IDLE[state]}, which does nothing yet"
        return "assigned", f"{change.after['ruleset']} to {joined(targets)}{idle}"
    return change.verb, f"{change.noun} {change.key}"


_IDLE = {"draft": "a draft", "paused": "a paused assignment"}


def summary_of(changes: Iterable[Change], ahead: bool = False) -> str:
    """What a revision did, or would do, in one sentence; many changes are counted by noun."""
    listed = list(changes)
    if len(listed) <= 3:
        sentence = joined([_told(change, ahead) for change in listed]) or f"{'change' if ahead else 'changed'} nothing"
    else:
        counts: dict[tuple[str, str], int] = {}
        for change in listed:
            verb = _AHEAD[change.verb] if ahead else change.verb
            counts[verb, change.noun] = counts.get((verb, change.noun), 0) + 1
        sentence = joined([f"{verb} {_counted_nouns(number, noun)}" for (verb, noun), number in counts.items()])
    return f"Would {sentence}" if ahead else sentence[0].upper() + sentence[1:]


_ONLY_ONE = {"precedence": "the order of groups", "settings": "the settings"}


def _counted_nouns(number: int, noun: str) -> str:
    many = {"category": "categories", "layer modes": "sets of layer modes"}
    one = {"layer modes": "set of layer modes"}.get(noun, noun)
    return _ONLY_ONE.get(noun) or counted(number, one, many.get(noun))
