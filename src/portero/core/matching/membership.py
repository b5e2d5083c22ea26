"""Which devices a membership rule holds, and the groups a device is in."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from fnmatch import fnmatchcase
from ipaddress import ip_address, ip_network

from portero.core.nouns.device import Facts
from portero.core.nouns.group import UNCLAIMED, WHOLE_FLEET, Condition, Group, MembershipRule, Op

Test = Callable[[Facts, Mapping[str, str]], bool]
"""Takes a device's facts and labels; says whether the rule holds it."""


def _never(_facts: Facts, _labels: Mapping[str, str]) -> bool:
    return False


def _read(field: str) -> Callable[[Facts, Mapping[str, str]], str | None]:
    if field.startswith("labels."):
        name = field.removeprefix("labels.")
        return lambda _facts, labels: labels.get(name)
    if field.startswith("os."):
        part = field.removeprefix("os.")
        return lambda facts, _labels: getattr(facts.os, part) if facts.os else None
    return lambda facts, _labels: getattr(facts, field)


def _like(value: str, pattern: str) -> bool:
    return fnmatchcase(value, pattern.replace("[", "[[]"))  # only * and ? are special


_COMPARE: dict[Op, Callable[[str, str], bool]] = {
    Op.IS: lambda value, wanted: value == wanted,
    Op.STARTS_WITH: str.startswith,
    Op.ENDS_WITH: str.endswith,
    Op.CONTAINS: lambda value, wanted: wanted in value,
    Op.LIKE: _like,
    Op.UNDER: lambda value, wanted: value == wanted or value.startswith(wanted + "/"),
}


def _compile_condition(condition: Condition) -> Test:
    if condition.op is Op.WITHIN:
        network = ip_network(str(condition.value), strict=False)
        return lambda facts, _labels: any(ip_address(address) in network for address in facts.addresses)
    read = _read(condition.field)
    if condition.op is Op.ONE_OF:
        accepted = {value.casefold() for value in condition.value}
        return lambda facts, labels: (value := read(facts, labels)) is not None and value.casefold() in accepted
    compare, wanted = _COMPARE[condition.op], str(condition.value).casefold()
    return lambda facts, labels: (value := read(facts, labels)) is not None and compare(value.casefold(), wanted)


def _compile_branch(branch: Condition | MembershipRule) -> Test:
    return _compile_condition(branch) if isinstance(branch, Condition) else compile_rule(branch)


def compile_rule(rule: MembershipRule) -> Test:
    """The rule as one function. A fact that is not reported makes its condition false."""
    every = [_compile_branch(branch) for branch in rule.all or ()]
    some = [_compile_branch(branch) for branch in rule.any or ()]
    not_one = [_compile_branch(branch) for branch in rule.none or ()]

    def holds(facts: Facts, labels: Mapping[str, str]) -> bool:
        return (
            all(test(facts, labels) for test in every)
            and (not some or any(test(facts, labels) for test in some))
            and not any(test(facts, labels) for test in not_one)
        )

    return holds


class Membership:
    """All groups of an estate, compiled; answers which of them a device is in."""

    def __init__(self, groups: Iterable[Group], order: Iterable[str]) -> None:
        rules = {group.key: group.members for group in groups}
        self._tests = [(key, compile_rule(rule) if (rule := rules[key]) else _never) for key in order if key in rules]

    def groups_of(self, facts: Facts, labels: Mapping[str, str]) -> tuple[str, ...]:
        """Keys of the device's groups, strongest first; `unclaimed` where no other holds it; `whole-fleet` last."""
        found = [key for key, test in self._tests if test(facts, labels)]
        return (*(found or [UNCLAIMED]), WHOLE_FLEET)
