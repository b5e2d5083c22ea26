"""Watched folders: what is put into a folder of a machine becomes a member of a set, by its SHA-256."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from portero.core.matching.applications import fold
from portero.core.nouns.application_set import MOST_CONDITIONS, ApplicationCondition, ApplicationSet
from portero.core.nouns.device import Application
from portero.core.nouns.estate import Estate

ProgramsOf = Callable[[str], Sequence[Application]]
"""The programs of a machine, by its hostname."""


class FoundInFolder(NamedTuple):
    """A program that was put into a watched folder, and the set that takes it in."""

    set: str
    program: Application


def found_in_folders(estate: Estate, programs_of: ProgramsOf) -> list[FoundInFolder]:
    """What lies in watched folders and is no member yet, each once a set. What has no SHA-256 is left out."""
    return [
        FoundInFolder(one.key, program)
        for one in estate.application_sets
        if one.watches
        for program in _new(one, programs_of)
    ]


def with_found(estate: Estate, found: Sequence[FoundInFolder]) -> Estate:
    """The estate in which the sets hold what was found."""
    return estate.replacing(
        application_sets=tuple(
            _holding(one, [each for each in found if each.set == one.key]) for one in estate.application_sets
        )
    )


def _holding(one: ApplicationSet, found: Sequence[FoundInFolder]) -> ApplicationSet:
    had = {condition.sha256 for condition in one.include}
    more = [ApplicationCondition(sha256=each.program.sha256) for each in found if each.program.sha256 not in had]
    return one.model_copy(update={"include": (*one.include, *more)[:MOST_CONDITIONS]}) if more else one


def _new(one: ApplicationSet, programs_of: ProgramsOf) -> list[Application]:
    had = {condition.sha256 for condition in one.include}
    found: dict[str, Application] = {}
    for watch in one.watches:
        for program in programs_of(watch.device):
            if program.sha256 and program.sha256 not in had and is_below(program.path, watch.folder):
                found.setdefault(program.sha256, program)
    return list(found.values())[: MOST_CONDITIONS - len(one.include)]


def is_below(path: str | None, folder: str) -> bool:
    """Whether a program lies in a folder, or in one below it."""
    if path is None:
        return False
    within, below = (fold("path", one).replace("\\", "/") for one in (folder, path))
    return below.startswith(within.rstrip("/") + "/")
