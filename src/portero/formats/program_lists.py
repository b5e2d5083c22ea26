"""Lists of a machine's programs as they travel: by differences, each list named by a digest."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import msgspec

from portero.core.digests import digest_of
from portero.core.nouns.device import MOST_APPLICATIONS, Application


class ProgramsTold(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    """What is another of a machine's programs: `base` names the list that the service should have, None for none; the
    paths that are gone, and the programs that are new or others now.
    """

    base: str | None = None
    gone: list[str] = []
    new: list[dict[str, Any]] = []


class OtherBase(ValueError):
    """The difference is to another list than is held: the whole one is wanted."""


def list_digest(programs: Iterable[Application]) -> str:
    """The name of a list of programs, in whatever order."""
    return digest_of("\n".join(sorted(_text(program) for program in programs)).encode())


def _text(program: Application) -> str:
    return program.model_dump_json(exclude_none=True)


def difference(before: Sequence[Application] | None, after: Sequence[Application]) -> ProgramsTold | None:
    """What to tell of a list to who has another; None where both are the same."""
    if before is None:
        return ProgramsTold(new=[_plain(program) for program in after])
    had, has = _by_path(before), _by_path(after)
    gone = [path for path in had if path not in has]
    new = [_plain(program) for path, program in has.items() if had.get(path) != program]
    return ProgramsTold(list_digest(before), gone, new) if gone or new else None


def patched(held: Sequence[Application], told: ProgramsTold) -> tuple[Application, ...]:
    """The list that a difference makes of the one that is held. OtherBase; ValueError where it has no right form."""
    programs: dict[str, Application]
    if told.base is None:
        programs = {}
    elif list_digest(held) != told.base:
        raise OtherBase("the list of programs that is held is another one")
    else:
        programs = {path: program for path, program in _by_path(held).items() if path not in set(told.gone)}
    for program in map(Application.model_validate, told.new):
        programs[program.path or ""] = program
    if len(programs) > MOST_APPLICATIONS:
        raise ValueError(f"a machine tells of {MOST_APPLICATIONS:,} programs at the most")
    return tuple(programs.values())


def _by_path(programs: Sequence[Application]) -> dict[str, Application]:
    return {program.path or "": program for program in programs}


def _plain(program: Application) -> dict[str, Any]:
    plain: dict[str, Any] = program.model_dump(mode="json", exclude_none=True)
    return plain
