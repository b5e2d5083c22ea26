"""Hold-back: versions of programs that a set took in later are logged for a while before they are stopped.

An assignment with a hold-back keeps which versions its sets held when it was made (`members`), and which came since,
and when (`came`). What it knows nothing of yet is held back too: nobody has looked at it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from portero.core.matching.applications import SetTest, Started, fold
from portero.core.nouns.application_set import FrozenProgram, Member
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.device import Application
from portero.core.nouns.estate import Estate
from portero.core.nouns.ruleset import Ruleset

Fields = tuple[tuple[str, str], ...]
"""A program by its fields, folded, as bundles carry it."""


def version_of(program: Application) -> Member | None:
    """What a version of a program is held back by: its product and version, else its SHA-256, its product alone, its
    path, its file. None where it has none of them.
    """
    if program.product and program.version:
        return FrozenProgram(product=program.product, version=program.version)
    if program.sha256:
        return program.sha256
    named = {name: value for name in ("product", "path", "file") if (value := getattr(program, name))}
    return FrozenProgram.model_validate(dict([*named.items()][:1])) if named else None


def fields_of(member: Member) -> Fields:
    """A member by its fields, folded."""
    if isinstance(member, str):
        return (("sha256", member),)
    given = member.model_dump(exclude_none=True)
    return tuple((name, value.casefold() if name == "version" else fold(name, value)) for name, value in given.items())


def held_versions(
    ruleset: Ruleset,
    estate: Estate,
    programs: Iterable[Application],
    catalogue: Mapping[str, frozenset[str]],
) -> Iterator[Member]:
    """The versions that the sets of a startup ruleset hold, of some programs, each once."""
    sets = estate.application_set_by_key
    keys = dict.fromkeys(rule.application_set for rule in ruleset.rules if rule.application_set)
    tests = [SetTest(sets[key], sets) for key in keys]
    seen = set[Fields]()
    for program in programs:
        member = version_of(program)
        if member is None or (known := fields_of(member)) in seen:
            continue
        started = Started.of(program, catalogue, estate.corrected_programs)
        if any(test.fit(started).narrowness is not None for test in tests):
            seen.add(known)
            yield member


class Held(NamedTuple):
    """Why a program is held back: when it came, None where nobody has told of it yet; and until when it is only
    logged, None where that does not end by itself.
    """

    came: float | None
    until: float | None


class HoldBack:
    """What an assignment holds back, made ready to be asked."""

    def __init__(self, seconds: float, members: Iterable[Fields], came: Iterable[tuple[Fields, float]]) -> None:
        self._seconds = seconds
        self._members = _Versions((fields, 0.0) for fields in members)
        self._came = _Versions(came)

    @classmethod
    def of(cls, assignment: Assignment) -> HoldBack:
        """That of an assignment which has one."""
        assert assignment.hold_back is not None
        came = [(fields_of(one.program), one.at.timestamp()) for one in assignment.came]
        return cls(assignment.hold_back.total_seconds(), map(fields_of, assignment.members or ()), came)

    def look(self, program: Started, at: float, is_server: bool) -> Held | None:
        """Why a program is held back at a moment; None where it counts as any other. Times are seconds since 1970."""
        if self._members.first(program) is not None:
            return None
        came = self._came.first(program)
        if came is None or is_server:
            return Held(came, None)
        until = came + self._seconds
        return Held(came, until) if at < until else None


class _Versions:
    """Versions of programs with moments, found by what they are named by."""

    def __init__(self, versions: Iterable[tuple[Fields, float]]) -> None:
        self._by_first: dict[tuple[str, str], list[tuple[dict[str, str], float]]] = {}
        for fields, at in versions:
            self._by_first.setdefault(fields[0], []).append((dict(fields), at))

    def first(self, program: Started) -> float | None:
        """The earliest moment of those that are the program; None where none is."""
        own = dict(program.fields)
        if program.version is not None:
            own["version"] = program.version.casefold()
        found = [
            at
            for item in own.items()
            for fields, at in self._by_first.get(item, ())
            if all(own.get(name) == value for name, value in fields.items())
        ]
        return min(found, default=None)
