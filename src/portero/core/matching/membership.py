"""Which devices a membership rule holds, and the groups a device is in.

Quick and incremental. Each condition has a bit. What a fact's value does to the conditions on it is worked out once
for each value that occurs, so that a device costs one look-up a fact; which groups a set of bits comes to is worked out
once for each set.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from functools import reduce
from itertools import compress
from operator import or_
from typing import NamedTuple

from portero.core.matching.members import Member, reader_of
from portero.core.matching.membership_conditions import Test, test_of
from portero.core.nouns.group import UNCLAIMED, WHOLE_FLEET, Group
from portero.core.nouns.membership import Condition, MembershipRule, Op, duration

FEW = 8
"""How many changed groups are reckoned one by one for each device; with more, all are."""

OWN_FACTS = ("hostname", "serial")

Held = Callable[[int], bool]
"""Takes the bits of a device's true conditions; says whether a rule holds it."""


class _Fact:
    """The conditions on one fact, and which of them each value makes true."""

    __slots__ = ("_memo", "_tests", "read")

    def __init__(self, source: str) -> None:
        self.read: Callable[[Member], Hashable] = reader_of(source)
        self._tests: list[tuple[int, Test]] = []
        self._memo: dict[Hashable, int] = {None: 0}

    def add(self, bit: int, test: Test) -> None:
        self._tests.append((bit, test))
        self._memo = {None: 0}

    def bits(self, value: Hashable) -> int:
        known = self._memo.get(value)
        if known is None:
            # text folds case: once, whatever the number of conditions
            folded = value.casefold() if isinstance(value, str) else value
            known = self._memo[value] = sum(bit for bit, test in self._tests if test(folded))
        return known

    def bits_of_all(self, members: Iterable[Member]) -> list[int]:
        memo, bits = self._memo, self.bits
        return [memo[value] if value in memo else bits(value) for value in map(self.read, members)]


class _OwnFact(_Fact):
    """A fact that each device has for itself: to remember what its values come to would not pay."""

    __slots__ = ()

    def bits_of_all(self, members: Iterable[Member]) -> list[int]:
        values = ["" if value is None else str(value).casefold() for value in map(self.read, members)]
        found = [0] * len(values)
        for bit, test in self._tests:
            # few devices pass a test on what is their own; a fact that is not reported passes none
            for place in compress(range(len(values)), map(test, values)):
                if values[place]:
                    found[place] |= bit
        return found


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
        wanted = {
            condition for group in self._by_key.values() if group.members for condition in group.members.conditions()
        }
        keep = previous is not None and len(previous._bit_of) <= 2 * len(wanted) + 50
        self._bit_of: dict[Condition, int] = dict(previous._bit_of) if keep and previous else {}
        self._facts: dict[str, _Fact] = dict(previous._facts) if keep and previous else {}
        self._waits: dict[Condition, timedelta] = dict(previous._waits) if keep and previous else {}
        self.continues = keep
        """Whether bits reckoned by `previous` are still good, but for those that `fresh` adds."""
        self.fresh = self._add_conditions(wanted)
        """The conditions that `previous` did not have, by the fact they look at."""
        self._order = [key for key in order if key in self._by_key]
        self._rank = {key: place for place, key in enumerate(self._order)}
        self._held = {key: self._compile(rule) for key in self._order if (rule := self._by_key[key].members)}
        self._by_bit, self._always = self._needed_bits()
        self.changed = self._changed_since(previous)
        """Groups that differ from those of `previous`; None where more than that differs."""
        self._pinned = _pins_by_device(self._by_key.values())
        self._memo: dict[int, tuple[str, ...]] = {}
        self.names_time = bool(self._waits)
        self.names_lifecycle = any(condition.field == "lifecycle" for condition in wanted)

    # --- compiling ---

    def _add_conditions(self, wanted: set[Condition]) -> dict[str, list[tuple[int, Test]]]:
        added: dict[str, list[tuple[int, Test]]] = {}
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
            added.setdefault(source, []).append((bit, test_of(condition)))
        self._facts |= fresh
        return added

    def _compile(self, rule: MembershipRule) -> Held:
        every, nested_every = self._split(rule.all)
        some, nested_some = self._split(rule.any)
        not_one, nested_not_one = self._split(rule.none)
        has_some = rule.any is not None

        def held(bits: int) -> bool:
            return (
                bits & every == every
                and not bits & not_one
                and (not has_some or bool(bits & some) or any(test(bits) for test in nested_some))
                and all(test(bits) for test in nested_every)
                and not any(test(bits) for test in nested_not_one)
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

    def _needed_bits(self) -> tuple[dict[int, list[str]], list[str]]:
        """Groups by a bit that each needs to hold anybody, so that few are looked at; and those that need none."""
        by_bit: dict[int, list[str]] = {}
        always = []
        for key in self._held:
            rule = self._by_key[key].members
            needed = [
                self._bit_of[branch] for branch in (rule.all if rule else None) or () if isinstance(branch, Condition)
            ]
            if needed:
                by_bit.setdefault(min(needed, key=lambda bit: len(by_bit.get(bit, ()))), []).append(key)
            else:
                always.append(key)
        return by_bit, always

    def _changed_since(self, previous: Membership | None) -> frozenset[str] | None:
        if previous is None or not self.continues:
            return None
        differing = {
            key
            for key in self._by_key.keys() | previous._by_key.keys()
            if self._by_key.get(key) != previous._by_key.get(key)
        }
        kept = [key for key in self._order if key not in differing]
        same_order = kept == [key for key in previous._order if key not in differing]
        return frozenset(differing) if same_order and len(differing) <= FEW else None

    # --- asking ---

    def bits(self, member: Member, now: datetime) -> int:
        """The bits of the conditions that are true of a device."""
        found = self._time_bits(member, now)
        for fact in self._facts.values():
            found |= fact.bits(fact.read(member))
        return found

    def bits_of_all(self, members: Sequence[Member], now: datetime) -> list[int]:
        """The same for many devices, fact by fact."""
        return self._joined_bits(members, now, self._facts.values())

    def fresh_bits_of_all(self, members: Sequence[Member], now: datetime) -> list[int]:
        """The same, of the conditions alone that `previous` did not have, and of those that time makes true."""
        facts = []
        for source, tests in self.fresh.items():
            fact = _Fact(source) if source not in OWN_FACTS else _OwnFact(source)
            for bit, test in tests:
                fact.add(bit, test)
            facts.append(fact)
        return self._joined_bits(members, now, facts)

    def _joined_bits(self, members: Sequence[Member], now: datetime, facts: Iterable[_Fact]) -> list[int]:
        found = [fact.bits_of_all(members) for fact in facts]
        if self._waits or not found:
            found.append([self._time_bits(member, now) for member in members])
        return reduce(lambda one, other: list(map(or_, one, other)), found)

    def good_bits(self, key: str, all_bits: Iterable[int]) -> set[int]:
        """Those of the bits with which a group's rule holds a device."""
        held = self._held.get(key)
        return {bits for bits in set(all_bits) if held(bits)} if held else set()

    def pinned_places(self, members: Sequence[Member]) -> list[int]:
        """The places of those devices that some group has pinned in or out."""
        if not self._pinned:
            return []
        return [place for place, member in enumerate(members) if self._pins_of(member) is not _FREE]

    def held_by(self, key: str, members: Sequence[Member], now: datetime) -> list[Member]:
        """Those of the devices that a group holds."""
        all_bits = self.bits_of_all(members, now)
        good = self.good_bits(key, all_bits)
        if not self._pinned:
            return [member for member, bits in zip(members, all_bits, strict=True) if bits in good]
        found = []
        for member, bits in zip(members, all_bits, strict=True):
            pinned = self._pins_of(member)
            if key not in pinned.out_of and (bits in good or key in pinned.into):
                found.append(member)
        return found

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
                known = self._memo[bits] = self._ended(self._holding(bits))
            return known
        return self._ended([*({*self._holding(bits), *pinned.into} - pinned.out_of)])

    def _holding(self, bits: int) -> list[str]:
        """The groups whose rules hold a device with these true conditions, in no order."""
        held, left = self._held, bits
        found = [key for key in self._always if held[key](bits)]
        while left:
            bit = left & -left
            left ^= bit
            found += [key for key in self._by_bit.get(bit, ()) if held[key](bits)]
        return found

    def _ended(self, keys: list[str]) -> tuple[str, ...]:
        return (*(sorted(keys, key=self._rank.__getitem__) or [UNCLAIMED]), WHOLE_FLEET)

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


def _pins_by_device(groups: Iterable[Group]) -> Mapping[str, _Pinned]:
    into: dict[str, set[str]] = {}
    out_of: dict[str, set[str]] = {}
    for group in groups:
        if group.pins:
            for pins, found in ((group.pins.in_, into), (group.pins.out, out_of)):
                for pin in pins:
                    found.setdefault(pin.device, set()).add(group.key)
    return {name: _Pinned(frozenset(into.get(name, ())), frozenset(out_of.get(name, ()))) for name in {*into, *out_of}}
