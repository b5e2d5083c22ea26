"""What a machine rules on a start by itself: by the clock, by place, until it restarts, and by what a file is."""

from __future__ import annotations

import json
import os
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from conftest import run_endpoint
from made_folders import joined_folder
from portero.core.nouns.device import Application
from portero.core.nouns.estate import Estate
from portero.endpoint.folder import Folder
from portero.endpoint.guard.machine_rules import MachineRules
from portero.endpoint.guard.programs import Digests, FileMark, KnownPrograms, candidates, path_of
from portero.endpoint.inventory import Inventory, read_files
from portero.endpoint.situation import UNTIL_RESTART
from portero.endpoint.test_program import put_test_program

VIEWER = Application(product="Deckhand Viewer", version="4.1", path="/opt/viewer", file="viewer")
WEDNESDAY = datetime(2026, 12, 2, 10, tzinfo=UTC)


def estate(**conditions: object) -> Estate:
    return Estate.model_validate(
        {
            "portero": 1,
            "application_sets": [{"key": "viewers", "include": [{"product": "Deckhand Viewer"}]}],
            "schedules": [
                {"key": "mornings", "zone": "UTC", "windows": [{"days": ["wed"], "from": "09:00", "to": "12:00"}]}
            ],
            "rulesets": [{"key": "r", "kind": "startup", "rules": [{"application_set": "viewers", "action": "block"}]}],
            "assignments": [{"key": "a", "ruleset": "r", "to": ["whole-fleet"], **conditions}],
            "settings": {"undecided_starts": "refuse"},
        }
    )


def said(machine: MachineRules, at: datetime = WEDNESDAY, user: str | None = None) -> str:
    assert machine.rules is not None
    frame = machine.frame(machine.rules, user, at)
    return machine.rules.rule(frame, (VIEWER,), user).verdict.value


def test_it_is_stopped_within_its_window_only(tmp_path):
    joined_folder(tmp_path, estate(schedule="mornings"))
    machine = MachineRules(joined_folder(tmp_path, estate(schedule="mornings")))
    assert [said(machine, WEDNESDAY + timedelta(hours=hours)) for hours in (0, 2, 24)] == ["block", "allow", "allow"]
    assert machine.rules.undecided == "refuse"


def test_it_is_stopped_off_site_only_and_a_place_that_is_not_known_is_off_site(tmp_path):
    assert said(MachineRules(joined_folder(tmp_path, estate(place="off-site")))) == "block"
    other = tmp_path / "other"
    other.mkdir()
    assert said(MachineRules(joined_folder(other, estate(place="on-site")))) == "allow"


def test_until_restart_is_over_once_the_machine_has_started_since(tmp_path):
    folder = joined_folder(tmp_path, estate(until_restart=True))
    now = datetime.now(UTC)
    folder.write(UNTIL_RESTART, json.dumps({"a": now.timestamp()}).encode())
    assert said(MachineRules(folder), now) == "block"
    long_ago = datetime(2001, 1, 1, tzinfo=UTC).timestamp()
    folder.write(UNTIL_RESTART, json.dumps({"a": long_ago}).encode())
    assert said(MachineRules(folder), now) == "allow", "this machine was started since"


def test_what_is_kept_is_taken_up_as_it_changes(tmp_path):
    folder = joined_folder(tmp_path, estate(people={"user_groups": ["crew"]}))
    machine = MachineRules(folder)
    assert said(machine, user="cadet-1") == "allow"
    assert not machine.take_up()
    folder.write("people.json", json.dumps({"cadet-1": ["crew"]}).encode())
    assert machine.take_up()
    assert said(machine, user="cadet-1") == "block"
    folder.write("people.json", b"[")
    assert machine.take_up()
    assert said(machine, user="cadet-1") == "allow", "what cannot be read is nothing"


@pytest.fixture
def known(tmp_path) -> tuple[KnownPrograms, Path]:
    """A program that is known, and where it is."""
    programs, data = tmp_path / "programs", tmp_path / "data"
    programs.mkdir()
    data.mkdir()
    program = put_test_program(programs, "Deckhand_Viewer", "4.1")
    folder = joined_folder(data, estate())
    Inventory(folder, (programs,)).look()
    return KnownPrograms(read_files(folder)), program


def looked_at(path: Path, known: KnownPrograms) -> tuple[Application, ...]:
    with path.open("rb") as file:
        mark = FileMark.of(os.fstat(file.fileno()))
        digest = Digests().make(file.fileno(), mark)
        return candidates(known, mark, path_of(file.fileno(), mark), digest)


def test_contents_carry_what_they_are_and_names_are_a_files_own(known, tmp_path):
    programs, program = known
    (found,) = looked_at(program, programs)
    assert (found.product, found.version, found.path) == ("Deckhand Viewer", "4.1", str(program))
    copy = tmp_path / "tides"
    copy.write_bytes(program.read_bytes())
    (found,) = looked_at(copy, programs)
    assert (found.product, found.version, found.file, found.path) == ("Deckhand Viewer", "4.1", "tides", str(copy))
    copy.write_bytes(program.read_bytes() + b"!")
    assert looked_at(copy, programs)[0].product is None


def test_a_file_that_was_written_over_is_no_longer_what_it_was(known):
    programs, program = known
    status = program.stat()
    contents = bytearray(program.read_bytes())
    contents[-1] ^= 1
    program.write_bytes(contents)
    os.utime(program, ns=(status.st_atime_ns, status.st_mtime_ns))
    assert looked_at(program, programs)[0].product is None, "though size and time are as before"


def test_a_path_that_another_file_has_by_now_counts_for_nothing(tmp_path):
    path = tmp_path / "a"
    path.write_bytes(b"one")
    with path.open("rb") as file:
        mark = FileMark.of(os.fstat(file.fileno()))
        assert path_of(file.fileno(), mark) == str(path)
        path.unlink()
        path.write_bytes(b"other")
        assert path_of(file.fileno(), mark) is None


def test_the_test_program_says_what_it_was_made_as_and_does_nothing(tmp_path):
    made = run_endpoint("test-program", tmp_path, "--product", "Deckhand Viewer", "--version", "4.1").stdout.strip()
    found = Inventory(Folder(tmp_path / "own"), (tmp_path,))
    found.look()
    assert [(one.product, one.version) for one in found.applications] == [("Deckhand Viewer", "4.1")]
    ended = subprocess.run([made], capture_output=True, check=False)
    assert (ended.returncode, ended.stdout, ended.stderr) == (0, b"", b"")
    for product in ("../elsewhere", "", "a/b"):
        assert "A product is of" in run_endpoint("test-program", tmp_path, "--product", product, expect=2).stderr
