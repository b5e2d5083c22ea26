"""Which devices a membership rule holds, and the groups a device is in.

Quick and incremental. Each condition has a bit. What a fact's value does to the conditions on it is worked out once
for each value that occurs, so that a device costs one look-up a fact; which groups a set of bits comes to is worked out
once for each set.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Mapping
from datetime import datetime, timedelta
from typing import Any, NamedTuple

from portero.core.matching.conditions import Test, test_of
from portero.core.matching.members import Member, reader_of
from portero.core.nouns.group import UNCLAIMED, WHOLE_FLEET, Condition, Group, MembershipRule, Op, duration

Held = Callable[[int], bool]
"""Takes the bits of a device's true conditions; says whether a rule holds it."""


class _Fact:
    """The conditions on one fact, and which of them each value makes true."""

    __slots__ = ("_memo", "_read", "_tests")

    def __init__(self, source: str) -> None:
        self._read: Callable[[Member], Hashable] = reader_of(source)
        self._tests: list[tuple[int, Test]] = []
        self._memo: dict[Hashable, int] = {None: 0}

    def add(self, bit: int, test: Test) -> None:
        self._tests.append((bit, test))
        self._memo = {None: 0}

    def bits(self, member: Member) -> int:
        value = self._read(member)
        known = self._memo.get(value)
        if known is None:
            known = self._memo[value] = sum(bit for bit, test in self._tests if test(value))
        return known


class _Pinned(NamedTuple):
    into: frozenset[str]
    out_of: frozenset[str]


_FREE = _Pinned(frozenset(), frozenset())


def source_of(condition: Condition) -> str:
    """The fact that a condition looks at: all conditions on applications look at the list of them."""
    head = condition.field.partition(".")[0]
    return head if head in ("browsers", "applications") else condition.field


class Membership:
    """All groups of an estate, compiled; answers which of them a device is in."""

    def __init__(self, groups: Iterable[Group], order: Iterable[str], previous: Membership | None = None) -> None:
        """`previous` is an earlier state of the same estate, whose conditions keep their bits and their memory."""
        self._by_key = {group.key: group for group in groups}
        wanted = {one for group in self._by_key.values() if group.members for one in group.members.conditions()}
        keep = previous is not None and len(previous._bit_of) <= 2 * len(wanted) + 50
        self._bit_of: dict[Condition, int] = dict(previous._bit_of) if keep and previous else {}
        self._facts: dict[str, _Fact] = dict(previous._facts) if keep and previous else {}
        self._waits: dict[Condition, timedelta] = dict(previous._waits) if keep and previous else {}
        self.continues = keep
        """Whether bits reckoned by `previous` are still good, but for those that `fresh` adds."""
        self.fresh = self._add_conditions(wanted)
        """Facts with conditions that `previous` did not have."""
        self._order = [key for key in order if key in self._by_key]
        self._held: list[tuple[str, Held]] = [
            (key, self._compile(rule)) for key in self._order if (rule := self._by_key[key].members)
        ]
        self._pinned = _pins_by_device(self._by_key.values())
        self._memo: dict[int, tuple[str, ...]] = {}
        self.names_time = bool(self._waits)
        self.names_lifecycle = any(one.field == "lifecycle" for one in wanted)

    # --- compiling ---

    def _add_conditions(self, wanted: set[Condition]) -> frozenset[str]:
        fresh: dict[str, _Fact] = {}
        for condition in sorted(wanted - self._bit_of.keys(), key=repr):
            bit = 1 << len(self._bit_of)
            self._bit_of[condition] = bit
            if condition.op is Op.OLDER_THAN:
                self._waits[condition] = duration(str(condition.value))
                continue
            source = source_of(condition)
            if source not in fresh:
                # a fact's memory is shared with the state before, so it is never changed, only replaced
                fresh[source] = _Fact(source)
                for known, known_bit in self._bit_of.items():
                    if known != condition and known.op is not Op.OLDER_THAN and source_of(known) == source:
                        fresh[source].add(known_bit, test_of(known))
            fresh[source].add(bit, test_of(condition))
        self._facts |= fresh
        return frozenset(fresh)

    def _compile(self, rule: MembershipRule) -> Held:
        every, nested_every = self._split(rule.all)
        some, nested_some = self._split(rule.any)
        not_one, nested_not_one = self._split(rule.none)
        has_some = rule.any is not None

        def held(bits: int) -> bool:
            return (
                bits & every == every
                and not bits & not_one
                and (not has_some or bool(bits & some) or any(one(bits) for one in nested_some))
                and all(one(bits) for one in nested_every)
                and not any(one(bits) for one in nested_not_one)
            )

        return held

    def _split(self, branches: tuple[Condition | MembershipRule, ...] | None) -> tuple[int, list[Held]]:
        bits, nested = 0, []
        for branch in branches or ():
            if isinstance(branch, Condition):
                bits |= self._bit_of[branch]
            else:
                nested.append(self._compile(branch))
        return bits, nested

    # --- asking ---

    def bits(self, member: Member, now: datetime, facts: Iterable[str] | None = None) -> int:
        """The bits of the conditions that are true of a device; of those on some facts only, where they are named."""
        found = 0
        for fact in self._facts.values() if facts is None else [self._facts[name] for name in facts]:
            found |= fact.bits(member)
        return found | self._time_bits(member, now)

    def _time_bits(self, member: Member, now: datetime) -> int:
        found = 0
        if self._waits and member.facts.last_start is not None:
            age = now - member.facts.last_start
            for condition, wait in self._waits.items():
                if age >= wait:
                    found |= self._bit_of[condition]
        return found

    def next_change(self, member: Member, now: datetime) -> datetime | None:
        """When time alone may next put the device into other groups; None where it cannot."""
        started = member.facts.last_start
        if started is None:
            return None
        return min((at for wait in self._waits.values() if (at := started + wait) > now), default=None)

    def groups_of_bits(self, bits: int, member: Member) -> tuple[str, ...]:
        """Keys of the groups that these true conditions and the device's pins come to, strongest first."""
        pinned = self._pins_of(member)
        if pinned is _FREE:
            known = self._memo.get(bits)
            if known is None:
                known = self._memo[bits] = _ended([key for key, held in self._held if held(bits)])
            return known
        held_keys = {key for key, held in self._held if held(bits)}
        found = (held_keys | pinned.into) - pinned.out_of
        return _ended([key for key in self._order if key in found])

    def groups_of(self, member: Member, now: datetime) -> tuple[str, ...]:
        """Keys of the device's groups, strongest first; `unclaimed` where no other holds it; `whole-fleet` last."""
        return self.groups_of_bits(self.bits(member, now), member)

    def _pins_of(self, member: Member) -> _Pinned:
        if not self._pinned:
            return _FREE
        by_id = self._pinned.get(member.id, _FREE)
        by_name = self._pinned.get(member.facts.hostname, _FREE) if member.keeps_name else _FREE
        if by_id is _FREE or by_name is _FREE:
            return by_name if by_id is _FREE else by_id
        return _Pinned(by_id.into | by_name.into, by_id.out_of | by_name.out_of)

    def hold_by_rule(self, key: str, member: Member, now: datetime) -> bool:
        """Whether a group's rule alone, without pins, holds the device."""
        rule = self._by_key[key].members
        return rule is not None and self._compile(rule)(self.bits(member, now))


def _ended(keys: list[str]) -> tuple[str, ...]:
    return (*(keys or [UNCLAIMED]), WHOLE_FLEET)


def _pins_by_device(groups: Iterable[Group]) -> Mapping[str, _Pinned]:
    into: dict[str, set[str]] = {}
    out_of: dict[str, set[str]] = {}
    for group in groups:
        if group.pins:
            for pins, found in ((group.pins.in_, into), (group.pins.out, out_of)):
                for pin in pins:
                    found.setdefault(pin.device, set()).add(group.key)
    return {name: _Pinned(frozenset(into.get(name, ())), frozenset(out_of.get(name, ()))) for name in {*into, *out_of}}


def pinned(group: Group, member: Member) -> str | None:
    """`in`, `out` or None: whether the device is pinned into the group or out of it."""
    names: set[Any] = {member.id, *([member.facts.hostname] if member.keeps_name else [])}
    for where in ("out", "in"):
        pins = (group.pins.out if where == "out" else group.pins.in_) if group.pins else ()
        if any(pin.device in names for pin in pins):
            return where
    return None
