"""How a finding is told, with the devices that it is about."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import cached_property
from itertools import chain, islice
from typing import NamedTuple

from portero.core import sentences
from portero.core.matching.members import Member
from portero.core.nouns.finding import Finding, FindingKind, Remedy, RuleAt, Severity
from portero.core.nouns.ruleset import Ruleset

FEW, MOST_SORTED = 12, 2_000
MOST_RULES = 50
_OF_RULES = ("remove-rules", "remove-allow", "block-too", "name-hosts", "extend-rules")
"""Remedies that edit rules: what address lists bring is changed there, for all that include them."""


class Told(NamedTuple):
    """A finding, and all devices that it is about."""

    finding: Finding
    devices: Collection[Member]


class HeldMembers(Collection[Member]):
    """Devices in several lists, counted without being gone through."""

    def __init__(self, lists: Iterable[Sequence[Member]]) -> None:
        self.lists = list(lists)
        self._size = sum(map(len, self.lists))

    @cached_property
    def examples(self) -> tuple[str, ...]:
        """The hostnames of a few of them."""
        return examples_of(self)

    def __len__(self) -> int:
        return self._size

    def __iter__(self) -> Iterator[Member]:
        return chain.from_iterable(self.lists)

    def __contains__(self, member: object) -> bool:
        return any(member in some for some in self.lists)


def examples_of(devices: Iterable[Member]) -> tuple[str, ...]:
    """The hostnames of a few devices."""
    return tuple(sorted(device.facts.hostname for device in islice(devices, MOST_SORTED))[:FEW])


def finding(
    kind: FindingKind,
    severity: Severity,
    about: Sequence[str],
    sentence: str,
    *,
    assignments: Sequence[str] = (),
    rulesets: Sequence[str] = (),
    groups: Sequence[str] = (),
    rules: Sequence[RuleAt] = (),
    devices: Collection[Member] = (),
    remedies: Sequence[tuple[str, Mapping[str, str]]] = (),
    hosts: Sequence[str] = (),
    browsers: Sequence[str] = (),
    at: datetime | None = None,
    detail: str | None = None,
) -> Told:
    """A finding; `about` are the keys of what it is about, from which its id is made."""
    made = Finding(
        id=".".join((kind.value, *about)),
        kind=kind,
        severity=severity,
        sentence=sentence,
        detail=detail,
        assignments=tuple(assignments),
        rulesets=tuple(rulesets),
        groups=tuple(groups),
        rules=tuple(rules[:MOST_RULES]),
        hosts=tuple(hosts),
        browsers=tuple(browsers),
        devices=len(devices),
        examples=devices.examples if isinstance(devices, HeldMembers) else examples_of(devices),
        remedies=tuple(
            Remedy(key=key, sentence=sentences.remedy(key, **names))
            for key, names in remedies
            if key not in _OF_RULES or not any(rule.address_list for rule in rules)
        ),
        at=at,
    )
    return Told(made, devices)


def rule_at(ruleset: Ruleset, number: int) -> RuleAt:
    """A rule by its ruleset and number."""
    selector, by = str(ruleset.rules[number - 1].selector), ruleset.address_list_of(number)
    return RuleAt(ruleset=ruleset.key, rule=number, selector=selector, address_list=by)
