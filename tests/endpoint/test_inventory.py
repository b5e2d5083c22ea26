"""The programs of a machine: found in folders, read once, told as differences."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portero.core.nouns.device import Application
from portero.endpoint import inventory
from portero.endpoint.folder import Folder
from portero.endpoint.inventory import Inventory
from portero.formats.program_lists import OtherBase, difference, list_digest, patched
from portero.formats.programs import looking
from portero.formats.programs.reading import ProgramReader


def program(path: Path, text: str = "#!/bin/sh\n") -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text)
    path.chmod(0o755)
    return path


@pytest.fixture
def place(tmp_path):
    (tmp_path / "data").mkdir()
    (tmp_path / "bin").mkdir()
    return tmp_path


def looked(place: Path, *roots: Path) -> Inventory:
    made = Inventory(Folder(place / "data"), roots or (place / "bin",))
    made.look()
    return made


def names(found: Inventory) -> list[str]:
    return [application.file for application in found.applications]


def test_executables_are_found_and_nothing_else(place):
    program(place / "bin/one")
    program(place / "bin/deeper/two")
    program(place / "bin/libthree.so.3")
    (place / "bin/notes.txt").write_text("no program")
    (place / "bin/setup.exe").write_bytes(b"MZ")
    program(place / "elsewhere/four")
    (place / "bin/four").symlink_to(place / "elsewhere/four")
    (place / "bin/round").symlink_to(place / "bin")
    (place / "bin/lost").symlink_to(place / "nowhere")
    os.mkfifo(place / "bin/pipe", 0o755)
    assert sorted(names(looked(place))) == ["four", "one", "setup.exe", "two"]


def test_what_stays_the_same_is_read_once_also_after_a_start(place, monkeypatch):
    one = program(place / "bin/one")
    program(place / "bin/two")
    found = looked(place)
    read: list[str] = []
    real = ProgramReader.read
    monkeypatch.setattr(ProgramReader, "read", lambda self, path: read.append(path.name) or real(self, path))
    again = Inventory(Folder(place / "data"), (place / "bin",))
    assert again.applications == found.applications
    assert not again.look()
    assert read == []
    program(one, "#!/bin/sh\necho another\n")
    (place / "bin/two").unlink()
    program(place / "bin/three")
    assert again.look()
    assert sorted(read) == ["one", "three"]
    assert sorted(names(again)) == ["one", "three"]


def test_there_are_bounds_and_what_is_left_out_is_told(place, monkeypatch):
    for number in range(6):
        program(place / f"bin/{number}")
    monkeypatch.setattr(inventory, "MOST_APPLICATIONS", 4)
    found = looked(place)
    assert (len(found.applications), found.problem) == (4, "there are more than 4 programs; the others are left out")
    monkeypatch.setattr(looking, "MOST_LOOKED_AT", 2)
    assert "more than 2 files" in looked(place).problem
    monkeypatch.setattr(looking, "DEEPEST", 0)
    program(place / "deep/below/one")
    assert names(looked(place, place / "deep")) == []


def test_a_look_that_is_to_end_ends_without_a_result(place, monkeypatch):
    program(place / "bin/one")
    program(place / "bin/two")
    found = Inventory(Folder(place / "data"), (place / "bin",))
    real = ProgramReader.read
    monkeypatch.setattr(ProgramReader, "read", lambda self, path: found.end() or real(self, path))
    assert not found.look()
    assert found.applications == ()
    assert not (place / "data" / inventory.RECORD).exists()


def test_a_record_that_is_damaged_is_begun_anew(place):
    program(place / "bin/one")
    looked(place)
    (place / "data" / inventory.RECORD).write_bytes(b"{no json")
    assert names(looked(place)) == ["one"]


PROGRAMS = st.dictionaries(st.sampled_from("abcdef"), st.sampled_from(["1", "2", "3"])).map(
    lambda found: tuple(Application(path=f"/{name}", version=version) for name, version in found.items())
)


@given(PROGRAMS, PROGRAMS, PROGRAMS)
def test_a_difference_makes_of_one_list_the_other_and_of_another_base_nothing(before, after, other):
    told = difference(before, after)
    if told is None:
        assert set(before) == set(after)
        return
    assert set(patched(before, told)) == set(after)
    assert list_digest(patched(before, told)) == list_digest(after)
    if set(other) != set(before):
        with pytest.raises(OtherBase):
            patched(other, told)
    whole = difference(None, after)
    assert set(patched(other, whole)) == set(after)
