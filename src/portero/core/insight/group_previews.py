"""Whom a group would hold, and what another order of groups would change."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from datetime import datetime

from portero.core.matching.fleet import Fleet
from portero.core.matching.members import Member, reader_of
from portero.core.matching.membership import source_of
from portero.core.nouns.group import (
    WHOLE_FLEET,
    Beside,
    Group,
    GroupPreview,
    MissingFact,
)
from portero.core.nouns.membership import Condition, MembershipRule
from portero.core.sentences import condition_sentence, group_sentence

EXAMPLES = 12


def preview_group(fleet: Fleet, group: Group, now: datetime) -> GroupPreview:
    """Whom the group would hold, beside whom the one saved under its key holds now."""
    held = fleet.held_by(group, now)
    ids = {member.id for member in held}
    before = fleet.in_group(group.key)
    comes_in = [member.facts.hostname for member in held if member.id not in before]
    drops_out = [member.facts.hostname for id, member in before.items() if id not in ids]
    beside: Counter[str] = Counter()
    for groups, number in Counter(fleet.groups_of(member.id) for member in held).items():
        for key in groups:
            beside[key] += number
    del beside[group.key], beside[WHOLE_FLEET]
    return GroupPreview(
        devices=len(held),
        examples=_few([member.facts.hostname for member in held]),
        comes_in=len(comes_in),
        comes_in_examples=_few(comes_in),
        drops_out=len(drops_out),
        drops_out_examples=_few(drops_out),
        beside=tuple(Beside(group=key, devices=number) for key, number in beside.most_common(20)),
        missing=tuple(_missing(group.members, held)),
        unknown_pins=_unknown_pins(fleet, group),
        sentence=group_sentence(group),
    )


def _few(hostnames: list[str]) -> tuple[str, ...]:
    return tuple(sorted(hostnames)[:EXAMPLES])


def _under_none(rule: MembershipRule | None) -> Iterator[Condition]:
    """The conditions that must not be true: what is not reported is not true, and so they hold."""
    for branch in (rule.none or ()) if rule else ():
        if isinstance(branch, Condition):
            yield branch
        else:
            yield from branch.conditions()
    for branch in (*(rule.all or ()), *(rule.any or ())) if rule else ():
        if isinstance(branch, MembershipRule):
            yield from _under_none(branch)


def _missing(rule: MembershipRule | None, held: list[Member]) -> Iterator[MissingFact]:
    for condition in dict.fromkeys(_under_none(rule)):
        read = _reading(condition)
        without = [member.facts.hostname for member in held if read(member) is None]
        if without:
            sentence = condition_sentence(condition)
            yield MissingFact(condition=sentence, devices=len(without), examples=_few(without))


def _reading(condition: Condition) -> Callable[[Member], object]:
    if condition.field == "last_start":
        return lambda member: member.facts.last_start
    return reader_of(source_of(condition))


def _unknown_pins(fleet: Fleet, group: Group) -> tuple[str, ...]:
    pins = [pin.device for pin in (*group.pins.in_, *group.pins.out)] if group.pins else []
    if not pins:
        return ()
    known = {name for member in fleet for name in (member.id, member.facts.hostname)}
    return tuple(pin for pin in pins if pin not in known)
