"""Named lists of addresses on the web, written once, which rulesets include."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import cached_property
from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import Field, StringConstraints, ValidationError, model_validator

from portero.core.nouns.action import Action
from portero.core.nouns.base import Key, Name, Note, Noun, Timestamp
from portero.core.nouns.faults import fault_of
from portero.core.nouns.patterns import normal_pattern
from portero.core.nouns.registry import Authored, Declared, shows
from portero.core.nouns.rule import Rule
from portero.core.nouns.urls import normal_range

MAX_ADDRESSES = 20_000
IncludingKind = Literal["indicator", "site"]
"""The kinds of rulesets that may include address lists."""
INCLUDING: tuple[IncludingKind, ...] = ("indicator", "site")

_WEB_URL = re.compile(r"https?://(?=[^*]+$)", re.IGNORECASE)
_HOST_END = re.compile(r"[/?:]")

Address = Annotated[str, StringConstraints(min_length=1, max_length=2048, pattern=r"^\S+$")]
"""A host with all below it, `.host` for that host alone, a URL, an IP address or range, or a site pattern."""


def selecting(address: str, kind: IncludingKind) -> dict[str, Any]:
    """How a rule of such a ruleset names the address: the fields of its selector. ValueError where it cannot."""
    if kind == "site":
        return {"pattern": _site_pattern(address)}
    if _is_range(address):
        return {"address": address}
    if "*" in address:
        raise ValueError(f"“{address[:80]}” is a site pattern, which no indicator can be")
    if address.startswith("."):
        return {"host": address[1:], "exact": True}
    if "/" in address or "?" in address or ":" in address:
        return {"url": address if "://" in address else f"http://{address}"}
    return {"host": address}


def _site_pattern(address: str) -> str:
    if not _is_range(address):
        pattern = _without_scheme(address)
        normal_pattern(pattern)
        return pattern
    network = normal_range(address)
    if network.num_addresses > 1:
        raise ValueError(f"“{address}” is a range of addresses, which no site pattern can be")
    return f"[{network.network_address}]" if network.version == 6 else str(network.network_address)


def _without_scheme(address: str) -> str:
    """A URL as indicators take it: over http and https alike, on that host alone."""
    found = _WEB_URL.match(address)
    if found is None:
        return address
    rest = address[found.end() :]
    return rest if _is_range(_HOST_END.split(rest, maxsplit=1)[0]) or rest.startswith("[") else f".{rest}"


def _is_range(text: str) -> bool:
    try:
        normal_range(text)
    except ValueError:
        return False
    return True


class Include(Noun):
    """An address list that a ruleset includes: each of its addresses is a rule of this action, until the end named."""

    address_list: Key
    action: Action
    note: Note | None = None
    valid_until: Timestamp | None = None


class IncludedRule(Rule):
    """A rule that an address list brings into a ruleset."""

    address_list: Key


class AddressList(Authored):
    """Hosts, URLs, IP addresses and site patterns under one name. It does nothing until a ruleset includes it."""

    declared: ClassVar = Declared(
        "address list", "address_lists", about="Named lists of addresses on the web that rulesets include."
    )
    key: Key
    name: Name | None = None
    note: Note | None = None
    addresses: Annotated[tuple[Address, ...], Field(max_length=MAX_ADDRESSES)] = ()

    @model_validator(mode="after")
    def _fits(self) -> Self:
        seen: dict[str, int] = {}
        for number, address in enumerate(self.addresses, start=1):
            first = seen.setdefault(address.casefold() if "/" not in address else address, number)
            if first != number:
                raise ValueError(f"addresses {first} and {number} are both “{address[:80]}”; keep one of them")
            problem = _problem(address, "indicator")
            if problem is not None and _problem(address, "site") is not None:
                raise ValueError(f"address {number}: {problem}")
        return self

    @cached_property
    def _made(self) -> dict[object, tuple[tuple[IncludedRule, ...], tuple[str, ...]]]:
        return {}

    def rules(self, kind: IncludingKind, include: Include) -> tuple[IncludedRule, ...]:
        """The rules that the list brings into a ruleset of a kind; what cannot be one is left out."""
        return self._read(kind, include)[0]

    def misfits(self, kind: IncludingKind, include: Include) -> tuple[str, ...]:
        """Of each address that cannot be such a rule: which, and why not."""
        return self._read(kind, include)[1]

    def _read(self, kind: IncludingKind, include: Include) -> tuple[tuple[IncludedRule, ...], tuple[str, ...]]:
        # by its addresses too: a copy with others has this memory with it
        key = self.addresses, kind, include
        found = self._made.get(key)
        if found is None:
            rules, problems = [], []
            for address in self.addresses:
                try:
                    rules.append(_rule(selecting(address, kind), include))
                except ValueError as problem:
                    problems.append(_told(problem))
            found = self._made[key] = tuple(rules), tuple(problems)
        return found


def _rule(selector: Mapping[str, Any], include: Include) -> IncludedRule:
    return IncludedRule.model_validate({**selector, **dict(include)})


def _problem(address: str, kind: IncludingKind) -> str | None:
    """Why no rule of such a ruleset can name the address; None where one can."""
    try:
        Rule.model_validate({**selecting(address, kind), "action": Action.BLOCK})
    except ValueError as problem:
        return _told(problem)
    return None


def _told(problem: ValueError) -> str:
    return fault_of(problem.errors()[0]) if isinstance(problem, ValidationError) else str(problem)


@shows(AddressList)
class AddressListState(AddressList):
    """An address list with what includes it."""

    name: Name
    sentence: Annotated[str, Field(description="What the list has, in words.")]
    rulesets: Annotated[tuple[Key, ...], Field(description="The rulesets that include it.")] = ()
    version: Annotated[int, Field(description="The revision that last changed it; also its ETag.")]
