"""What one condition of a membership rule says of one value of its fact."""

from __future__ import annotations

import re
from collections.abc import Callable
from fnmatch import translate
from functools import lru_cache
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network
from operator import methodcaller
from typing import Any

from portero.core.matching.members import Item, Shared
from portero.core.nouns.membership import FIELDS, Condition, ItemTest, Op, VersionBounds, hundredths
from portero.core.nouns.versions import version_key

Test = Callable[[Any], bool]
"""Takes a fact's value, which is reported; text comes folded. Says whether the condition is true of it."""


def test_of(condition: Condition) -> Test:
    """The condition as a function of its fact's value. For a list fact one matching item suffices."""
    head, _, part = condition.field.partition(".")
    if condition.field == "sample":
        bound = hundredths(str(condition.value))
        return bound.__gt__ if condition.op is Op.BELOW else bound.__le__
    if condition.op is Op.WITHIN:
        return _within(ip_network(str(condition.value), strict=False))
    if condition.op is Op.HAS:
        assert isinstance(condition.value, ItemTest)
        return _any_item(_item_test(condition.value))
    test = _single(condition)
    if head in ("browsers", "applications"):
        return _any_item(lambda item: (value := getattr(item, part)) is not None and test(value.casefold()))
    return test


def _any_item(test: Callable[[Item], bool]) -> Test:
    def some(shared: Shared) -> bool:
        return any(test(item) for item in shared.items)

    return some


def _within(network: IPv4Network | IPv6Network) -> Test:
    def inside(addresses: tuple[str, ...]) -> bool:
        return any(is_within(address, network) for address in addresses)

    return inside


def is_within(address: str, network: IPv4Network | IPv6Network) -> bool:
    """Whether an address lies in a network; a mapped IPv6 address counts as its IPv4 one."""
    parsed = ip_address(address)
    mapped = getattr(parsed, "ipv4_mapped", None)
    return (mapped or parsed) in network


def _single(condition: Condition) -> Test:
    is_version = Op.BELOW in FIELDS.get(condition.field, FIELDS["hostname"]).ops
    if condition.op in (Op.IS, Op.ONE_OF):
        accepted = condition.texts
        if is_version:
            tests = [version_test(Op.IS, value) for value in accepted]
            return lambda value: any(test(value) for test in tests)
        return frozenset(value.casefold() for value in accepted).__contains__
    if condition.op in (Op.FROM, Op.TO, Op.BELOW):
        return version_test(condition.op, str(condition.value))
    return _text_test(condition.op, str(condition.value).casefold())


def _text_test(op: Op, wanted: str) -> Test:
    if op is Op.LIKE:
        return _like(wanted)
    below = wanted.rstrip("/") + "/"
    tests: dict[Op, Test] = {
        Op.STARTS_WITH: methodcaller("startswith", wanted),
        Op.ENDS_WITH: methodcaller("endswith", wanted),
        Op.CONTAINS: lambda value: wanted in value,
        Op.UNDER: lambda value: f"{value}/".startswith(below),
    }
    return tests[op]


def _like(pattern: str) -> Test:
    """`*` and `?` stand for any text and any character; the plain forms, which most are, need no expression."""
    inner = pattern.strip("*")
    if not inner or ("*" not in inner and "?" not in inner):
        front, behind = pattern.startswith("*"), pattern.endswith("*")
        if front and behind:
            return lambda value: inner in value
        if front or behind:
            return _text_test(Op.ENDS_WITH if front else Op.STARTS_WITH, inner)
        return inner.__eq__
    compiled = re.compile(translate(pattern.replace("[", "[[]")))
    return lambda value: compiled.match(value) is not None


_key = lru_cache(maxsize=20_000)(version_key)


def version_test(op: Op, wanted: str) -> Test:
    """Compares a version with `wanted`; false for a value that is no version, unless it is the very same text."""
    bound = _key(wanted)

    def holds(value: str) -> bool:
        key = _key(value)
        if key is None or bound is None:
            return op is Op.IS and value.casefold() == wanted.casefold()
        if op is Op.FROM:
            return key >= bound
        if op is Op.TO:
            return key <= bound
        return key < bound if op is Op.BELOW else key == bound

    return holds


def _is_text(wanted: str) -> Test:
    folded = wanted.casefold()
    return lambda found: found.casefold() == folded


def _item_test(wanted: ItemTest) -> Callable[[Item], bool]:
    tests: list[tuple[str, Test]] = []
    for name, value in wanted.given.items():
        if isinstance(value, VersionBounds):
            tests += [(name, version_test(op, bound)) for op, bound in value.given()]
        elif isinstance(value, bool):
            tests.append((name, value.__eq__))
        else:
            tests.append((name, _is_text(value)))

    def fits(item: Item) -> bool:
        return all((found := getattr(item, name)) is not None and test(found) for name, test in tests)

    return fits
