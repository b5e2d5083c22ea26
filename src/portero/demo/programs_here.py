"""The demo's programs, which do nothing."""

from __future__ import annotations

from pathlib import Path

from portero.endpoint.test_program import put_test_program

PROGRAMS = (("Deckhand_Viewer", "4.1"), ("Deckhand_Viewer", "4.2"), ("Tide_Table", "1.0"))


def programs_folder(data: Path) -> Path:
    """Where the demo's programs are."""
    return data / "programs"


def put_programs(data: Path) -> Path:
    """The folder of the demo's programs, with all of them in it."""
    folder = programs_folder(data)
    folder.mkdir(exist_ok=True)
    for name, version in PROGRAMS:
        put_test_program(folder, name, version)
    return folder
