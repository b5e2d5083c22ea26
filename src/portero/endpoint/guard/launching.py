"""The launcher: rules on a program as the guard does, and becomes it where it may start. It needs no root."""

from __future__ import annotations

import os
import shutil
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from portero.endpoint.folder import Folder
from portero.endpoint.guard.machine_rules import MachineRules
from portero.endpoint.guard.processes import user_name
from portero.endpoint.guard.programs import FileMark, candidates, digest_of_file
from portero.endpoint.guard.ruling import StartRuling


class LaunchRuling(NamedTuple):
    """A program that somebody wants to start, and what the rules say. Without a bundle nothing is said."""

    program: Path
    user: str
    ruling: StartRuling | None


def rule_on_launch(folder: Folder, program: str, at: datetime) -> LaunchRuling:
    """Rule on a program, named by its path or as the search path finds it. FileNotFoundError, OSError, NotJoined."""
    found = shutil.which(program)
    if found is None:
        raise FileNotFoundError(f"there is no program {program[:500]} here that can be started")
    path, user, machine = Path(found).resolve(), user_name(os.getuid()), MachineRules(folder)
    if machine.rules is None:
        return LaunchRuling(path, user, None)
    with path.open("rb") as file:
        mark, digest = FileMark.of(os.fstat(file.fileno())), digest_of_file(file.fileno())
    programs = candidates(machine.rules.known, mark, str(path), digest)
    frame = machine.frame(machine.rules, user, at)
    return LaunchRuling(path, user, machine.rules.rule(frame, programs, user.casefold()))
