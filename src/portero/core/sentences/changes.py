"""What a change did to an object, in words: one sentence for each thing that differs."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from portero.core.nouns.action import Action
from portero.core.nouns.application_set import FrozenProgram
from portero.core.nouns.revision import Change
from portero.core.nouns.rule import Rule
from portero.core.nouns.selector import Selector
from portero.core.sentences.policy import member_words, selector_words
from portero.core.wording import VERBS, counted, joined

MOST_DETAILS = 60
_LONG = 160
_PLAIN: tuple[Any, ...] = (False, "anywhere", "active", [], {})


def change_details(change: Change) -> tuple[str, ...]:
    """What differs, one sentence each; what is new or gone is told as what it was or is."""
    before, after = change.before or {}, change.after or {}
    found = [*(_rules(before, after) if change.noun == "ruleset" else ()), *_fields(before, after)]
    if len(found) > MOST_DETAILS:
        return (*found[: MOST_DETAILS - 1], f"and {len(found) - MOST_DETAILS + 1:,} more")
    return tuple(found)


def _rules(before: Mapping[str, Any], after: Mapping[str, Any]) -> Iterator[str]:
    old, new = (
        {rule.selector: rule for rule in map(Rule.model_validate, document.get("rules", ()))}
        for document in (before, after)
    )
    turned = _turned(list(old.values()), list(new.values()))
    for rule, earlier in turned.values():
        yield _repointed(rule, earlier)
    gone = {earlier.selector for _, earlier in turned.values()}
    for selector, rule in new.items():
        was = old.get(selector)
        if selector in turned:
            continue
        if was is None:
            yield f"{VERBS[rule.action]} {selector_words(rule)}"
        elif was.action is not rule.action:
            yield f"{VERBS[rule.action]} {selector_words(rule)}, and {_DID[was.action]} before"
        elif was != rule:
            yield f"other words or another end for {selector_words(rule)}"
    for selector, rule in old.items():
        if selector not in new and selector not in gone:
            yield f"no longer {VERBS[rule.action]} {selector_words(rule)}"


def _turned(old: Sequence[Rule], new: Sequence[Rule]) -> dict[Selector, tuple[Rule, Rule]]:
    """Rules that name something else than before, each with what it was, by what they name now: of the same name, or of
    the same action in the same place where there are as many as before.
    """
    gone = {rule.selector for rule in old} - {rule.selector for rule in new}
    come = {rule.selector for rule in new} - {rule.selector for rule in old}
    named = {rule.name: rule for rule in old if rule.name and rule.selector in gone}
    found: dict[Selector, tuple[Rule, Rule]] = {}
    for place, rule in enumerate(new):
        if rule.selector not in come:
            continue
        was = named.pop(rule.name, None) if rule.name else None
        if was is None and len(old) == len(new):
            there = old[place]
            was = there if (there.name, there.action) == (rule.name, rule.action) else None
        if was is not None and was.selector in gone:
            gone.remove(was.selector)
            found[rule.selector] = (rule, was)
    return found


def _repointed(rule: Rule, was: Rule) -> str:
    """As in: “The drop” blocks other.example in place of drop.example, which it no longer blocks."""
    words, before = selector_words(rule), selector_words(was)
    who = f"“{rule.name}” " if rule.name else ""
    return f"{who}{VERBS[rule.action]} {words} in place of {before}, which it no longer {VERBS[was.action]}"


_DID = {Action.BLOCK: "blocked", Action.WARN: "warned", Action.ALLOW: "allowed", Action.LOG: "only recorded"}


def _fields(before: Mapping[str, Any], after: Mapping[str, Any]) -> Iterator[str]:
    for name in dict.fromkeys((*before, *after)):
        if name in ("key", "rules", "group", "host") or before.get(name) == after.get(name):
            continue
        word = name.replace("_", " ")
        old, new = before.get(name), after.get(name)
        if isinstance(old, list) and isinstance(new, list):
            yield from _list(word, old, new)
        elif isinstance(old, dict) and isinstance(new, dict):
            within = "" if name == "settings" else f"{word}, "
            yield from (f"{within}{detail}" for detail in _fields(old, new))
        elif old is None:
            # what is new and goes without saying is left out
            if not _is_plain(new):
                yield f"{word}: {_value(new)}"
        elif new is None and not _is_plain(old):
            yield f"{word}: none, and {_value(old)} before"
        elif new is not None:
            yield f"{word}: {_value(new)}, and {_value(old)} before"


def _is_plain(value: Any) -> bool:
    """Whether it goes without saying."""
    return value in _PLAIN or (isinstance(value, dict) and all(map(_is_plain, value.values())))


def _list(word: str, old: list[Any], new: list[Any]) -> Iterator[str]:
    if word == "precedence" and (moved := _moved(old, new)):
        yield moved
        return
    added, gone = ([item for item in some if item not in other] for some, other in ((new, old), (old, new)))
    if word in ("members", "came"):
        added, gone = ([_version(item) for item in some] for some in (added, gone))
    if added:
        yield f"{word}: also {_value(added)}"
    if gone:
        yield f"{word}: no longer {_value(gone)}"
    if not added and not gone:
        yield f"{word}: in the order {_value(new)}"


def _version(item: Any) -> str:
    """A version of a program that an assignment keeps: “Chart Table 3.2”."""
    program = item.get("program", item) if isinstance(item, dict) else item
    return member_words(program if isinstance(program, str) else FrozenProgram.model_validate(program))


def _moved(old: list[Any], new: list[Any]) -> str | None:
    """How one group was put into the order, or moved within it: “precedence: crew-mess stands above ships”."""
    for key in new:
        rest = [one for one in new if one != key]
        if rest == [one for one in old if one != key] and new != old:
            place = new.index(key)
            above = f"above {new[place + 1]}" if place + 1 < len(new) else "last"
            was = "" if key not in old else ", moved " + ("up" if place < old.index(key) else "down")
            return f"precedence: {key} stands {above}{was}"
    return None


def _value(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        words = [_value(item) for item in value]
        return joined(words) if len(words) <= 8 else f"{joined(words[:7])} and {counted(len(words) - 7, 'other')}"
    if isinstance(value, dict):
        if set(value) == {"device"}:
            return str(value["device"])
        given = {name: one for name, one in value.items() if one not in (None, [], {})}
        told = ", ".join(f"{name.replace('_', ' ')} {_value(one)}" for name, one in given.items())
    else:
        told = str(value)
    return told if len(told) <= _LONG else told[:_LONG] + "…"
