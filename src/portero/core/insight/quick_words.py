"""What the words of quick rules mean. A word with several readings is refused, with all of them spelt out."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from typing import NamedTuple

from pydantic import ValidationError

from portero.core import wording
from portero.core.nouns.assignment import DeviceTarget, People, Target
from portero.core.nouns.base import unknown_word
from portero.core.nouns.device import Application
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.nouns.faults import fault_of
from portero.core.nouns.rule import Rule
from portero.core.nouns.urls import BadUrl, normal_host, normal_range, parse_whole
from portero.core.nouns.web_taxonomy import TAXONOMY

_SHA256 = re.compile(r"^[0-9a-fA-F]{64}$")
_KINDS = ("category", "family", "host", "url", "address", "service", "pattern", "program")
EXAMPLES = "such as chess.example, https://chess.example/play, 203.0.113.7, gambling or program:chess-club"


class QuickWordProblem(ValueError):
    """A word means nothing here, or more than one thing; the message says what to write."""


class Meaning(NamedTuple):
    """What a word means: of what kind, and which."""

    kind: str
    value: str

    def __str__(self) -> str:
        return f"{self.kind}:{self.value}"


class Known(NamedTuple):
    """What words are looked up in."""

    estate: Estate
    programs: Callable[[], Iterable[Application]]
    """The programs that machines have."""
    machine: Callable[[str], str | None]
    """The name under which a machine is assigned to, by its hostname or id."""
    directory: Directory


class MeantProgram(NamedTuple):
    """A program that a word means: by an application set, its SHA-256, or its product, for which a set is made."""

    application_set: str | None = None
    sha256: str | None = None
    product: str | None = None


def _split(word: str, kinds: Iterable[str]) -> tuple[str | None, str]:
    kind, colon, value = word.partition(":")
    spelt_out = bool(colon) and kind in kinds and not value.startswith("//")
    return (kind, value.strip()) if spelt_out else (None, word.strip())


def _single(word: str, readings: list[Meaning], unknown: str) -> Meaning:
    if not readings:
        raise QuickWordProblem(unknown)
    if len(readings) > 1:
        raise QuickWordProblem(f"“{word[:80]}” may mean {wording.joined(list(map(str, readings)), 'or')}; say which")
    return readings[0]


def _unknown(what: str, word: str, known: Iterable[str], hint: str) -> str:
    """That the word is not known, with the nearest one that is; else a hint."""
    said = unknown_word(what, word, known)
    return said if said.endswith("?") else f"{said}; {hint}"


# --- what ---


def meaning_of(word: str, known: Known) -> Meaning:
    """What a word means. QuickWordProblem where that is nothing, or more than one thing."""
    kind, value = _split(word, _KINDS)
    if kind is not None:
        return Meaning(kind, value)
    names = [*TAXONOMY.categories, *known.estate.application_set_by_key]
    unknown = _unknown("category, host or program", value, names, f"write it {EXAMPLES}")
    return _single(word, [*_named(value, known), *_addressed(value)], unknown)


def _named(value: str, known: Known) -> list[Meaning]:
    """What has this name."""
    folded = value.casefold()
    found = [
        Meaning("category", key)
        for key, category in TAXONOMY.categories.items()
        if folded in (key, category.name.casefold())
    ]
    found += [Meaning("family", key) for key in TAXONOMY.by_family if key == folded]
    found += [Meaning("service", one.key) for one in known.estate.services if one.key == folded]
    if _SHA256.match(value):
        return [*found, Meaning("program", folded)]
    if "/" in value or value.startswith(("*", ".")):
        return found
    is_program = folded in known.estate.application_set_by_key or _product(value, known) is not None
    return [*found, Meaning("program", value)] if is_program else found


def _addressed(value: str) -> list[Meaning]:
    """What on the web it may be, by how it is written: a name without a dot is taken for no host."""
    if "://" in value:
        return [Meaning("url", value)] if _holds(parse_whole, value) else [Meaning("pattern", value)]
    if _holds(normal_range, value):
        return [Meaning("address", value)]
    if value.startswith(("*.", ".")) and _holds(normal_host, bare := value.lstrip("*.")):
        return [Meaning("host", bare), Meaning("pattern", value)]
    if "*" in value:
        return [Meaning("pattern", value)]
    if "." in value and _holds(normal_host, value):
        return [Meaning("host", value)]
    if "/" in value and "." in value.partition("/")[0] and _holds(parse_whole, f"http://{value}"):
        return [Meaning("url", value), Meaning("pattern", value)]
    return []


def _holds(read: Callable[[str], object], value: str) -> bool:
    try:
        read(value)
    except (BadUrl, ValueError):
        return False
    return True


def rule_of(word: str, fields: Mapping[str, object]) -> Rule:
    """The rule of these fields, which a word stands for. QuickWordProblem."""
    try:
        return Rule.model_validate(fields)
    except ValidationError as problem:
        raise QuickWordProblem(f"{word[:80]}: {fault_of(problem.errors()[0])}") from problem


def program_of(value: str, known: Known) -> MeantProgram:
    """The program that is meant: an application set, a SHA-256, or a product that machines have. QuickWordProblem."""
    if _SHA256.match(value):
        return MeantProgram(sha256=value.casefold())
    if value.casefold() in known.estate.application_set_by_key:
        return MeantProgram(application_set=value.casefold())
    product = _product(value, known)
    if product is None:
        names = {one.product for one in known.programs() if one.product}.union(known.estate.application_set_by_key)
        what = "it is an application set, a product that machines have, or a SHA-256"
        raise QuickWordProblem(_unknown("program", value, names, what))
    return MeantProgram(product=product)


def _product(value: str, known: Known) -> str | None:
    """The product of that name, or whose file has it, among those that machines have."""
    folded = value.casefold()
    for name in ("product", "file"):
        found = next((one for one in known.programs() if (getattr(one, name) or "").casefold() == folded), None)
        if found is not None and found.product:
            return found.product
    return None


# --- where, and for whom ---


def target_of(word: str, known: Known) -> Target:
    """The group or the machine that a word means. QuickWordProblem."""
    kind, value = _split(word, ("group", "device"))
    groups = known.estate.group_order
    found = [Meaning("group", value)] if kind != "device" and value in groups else []
    machine = known.machine(value) if kind != "group" else None
    if machine is not None:
        found.append(Meaning("device", value))
    unknown = _unknown("group or machine", value, groups, "“portero group list” and “portero device list” show them")
    meant = _single(word, found, unknown)
    return value if meant.kind == "group" else DeviceTarget(device=machine or value)


def people_of(words: Iterable[str], known: Known) -> People | None:
    """The people that words mean; None for everybody. QuickWordProblem where the directory has no such name."""
    directory = known.directory
    users: list[str] = []
    user_groups: list[str] = []
    groups = {group.key.casefold(): group.key for group in directory.user_groups}
    for word in words:
        kind, value = _split(word, ("user", "user-group"))
        found = [Meaning("user-group", value)] if kind != "user" and value.casefold() in groups else []
        if kind != "user-group" and value.casefold() in directory.people:
            found.append(Meaning("user", value))
        names = [*groups, *directory.people]
        meant = _single(word, found, _unknown("person or user group", value, names, "the directory has neither"))
        (users if meant.kind == "user" else user_groups).append(value)
    if not users and not user_groups:
        return None
    return People(users=tuple(sorted(set(users))), user_groups=tuple(sorted(set(user_groups))))
