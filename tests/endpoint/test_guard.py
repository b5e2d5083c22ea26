"""The guard on this machine: programs that may not start do not, whichever way they are started; nothing is stuck."""

from __future__ import annotations

import fcntl
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import termios
import threading
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import psutil
import pytest

from conftest import Process, assignment, eventually, run_endpoint
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.essentials import LOADERS
from portero.core.nouns.ruleset import Ruleset
from portero.endpoint.guard.keeping import write_on
from portero.endpoint.guard.watching import CANNOT
from portero.endpoint.test_program import put_test_program

pytestmark = [
    pytest.mark.process,
    pytest.mark.skipif(os.geteuid() != 0, reason="only root may guard a machine"),
]
ROOT = Path(__file__).parents[2]
Command = tuple[object, ...]
soon = partial(eventually, timeout=60)
"""As soon as it comes about: a machine that is busy is slow, not wrong."""
HUNG = 3.0
"""A start that takes longer was held up; without the watcher it would be for ever."""
SETS = {
    "viewers": {
        "include": [{"product": "Deckhand-Viewer"}, {"file": "lesson"}, {"file": "lesson.sh"}],
        "exclude": [{"product": "Deckhand-Viewer", "version": {"from": "4.2"}}],
    },
    "games": {"include": [{"product": "Reef-Racer"}]},
    "office": {"include": [{"product": "Sea-Sheets"}]},
    "night": {"include": [{"product": "Night-Watch"}]},
    "long": {"include": [{"file": "long-lesson"}]},
}
RULES = {"viewers": "block", "games": "warn", "office": "log", "night": "block", "long": "block"}


class Guarded:
    """A machine that guards a file system of its own, with programs on it, and another one mounted below."""

    def __init__(self, folder: Path, data: Path) -> None:
        self.folder, self.data = folder, data
        self.viewer = put_test_program(folder, "Deckhand-Viewer", "4.1")
        self.newer = put_test_program(folder, "Deckhand-Viewer", "4.2")
        self.other = put_test_program(folder, "Tide-Table", "1.0")
        self.racer = put_test_program(folder, "Reef-Racer", "1.0")
        self.watch = put_test_program(folder, "Night-Watch", "1.0")
        run = ("portero.endpoint.main", "run", "--data", data, "--port", 0, "--every", 1)
        self.process = Process(*run, "--programs", folder, "--guard", folder, "--countdown", 2)
        self.process.wait_for(r"the guard answers")

    def starts(self, *command: object, user: str | None = None) -> bool:
        """Whether a program starts."""
        done = subprocess.run(
            ["sh", "-c", 'exec "$@"', "sh", *map(str, command)], capture_output=True, text=True, timeout=20, user=user
        )
        if done.returncode:
            assert "Operation not permitted" in done.stderr, done.stderr
        return done.returncode == 0

    def log(self) -> str:
        return run_endpoint("log", "--data", self.data).stdout

    @property
    def watcher(self) -> psutil.Process:
        return psutil.Process(self.process.pid).children()[0]

    @property
    def guard(self) -> psutil.Process:
        return soon(lambda: self.watcher.children())[0]


@pytest.fixture(scope="module")
def rules(portero):
    for key, conditions in SETS.items():
        portero.application_sets.create(ApplicationSet.model_validate({"key": key, **conditions}))
        rules = [{"application_set": key, "action": RULES[key]}]
        portero.rulesets.create(Ruleset.model_validate({"key": f"no-{key}", "kind": "startup", "rules": rules}))
        people = {"users": ["nobody"]} if key == "night" else None
        if key != "long":
            portero.assignments.create(assignment(f"no-{key}", "whole-fleet", people=people))


@pytest.fixture(scope="module")
def guarded(service, portero, rules, tmp_path_factory) -> Iterator[Guarded]:
    data = tmp_path_factory.mktemp("machine")
    code = portero.enrolment.create_code(NewEnrolmentCode()).code
    run_endpoint("join", "--service", service.url, "--code", code, "--hostname", "guard-01", "--data", data)
    folder = tmp_path_factory.mktemp("programs")
    for above in [folder, *folder.parents][: -len(Path(tempfile.gettempdir()).parts)]:
        above.chmod(0o755)
    subprocess.run(["mount", "-t", "tmpfs", "portero", folder], check=True)
    folder.chmod(0o755)
    try:
        (folder / "there").mkdir()
        subprocess.run(["mount", "-t", "tmpfs", "portero", folder / "there"], check=True)
        made = Guarded(folder, data)
        soon(lambda: not made.starts(made.viewer))
        yield made
        made.process.stop()
    finally:
        subprocess.run(["umount", "-R", "-l", folder], check=True)


# --- ways round ---


def as_it_is(program: Path, folder: Path) -> Command:
    return (program,)


def under_another_name(program: Path, folder: Path) -> Command:
    return (Path(shutil.copy(program, folder / "a")).rename(folder / "tide-table"),)


def as_a_copy(program: Path, folder: Path) -> Command:
    return (shutil.copy(program, folder / "copy"),)


def through_a_hard_link(program: Path, folder: Path) -> Command:
    (folder / "linked").hardlink_to(program)
    return (folder / "linked",)


def through_a_symbolic_link(program: Path, folder: Path) -> Command:
    (folder / "symlinked").symlink_to(program)
    return (folder / "symlinked",)


def mounted_in_another_place(program: Path, folder: Path) -> Command:
    (folder / "bound").touch()
    subprocess.run(["mount", "--bind", program, folder / "bound"], check=True)
    return (folder / "bound",)


def mounted_over_another(program: Path, folder: Path) -> Command:
    may = put_test_program(folder, "Harbour-Log", "1.0")
    return ("unshare", "--mount", "sh", "-c", f"mount --bind {program} {may} && exec {may}")


def in_a_mount_namespace(program: Path, folder: Path) -> Command:
    return ("unshare", "--mount", program)


def on_another_file_system(program: Path, folder: Path) -> Command:
    return (shutil.copy(program, folder.parent / "there" / "elsewhere"),)


def on_one_mounted_later(program: Path, folder: Path) -> Command:
    subprocess.run(["mount", "-t", "tmpfs", "portero", folder], check=True)
    time.sleep(1)
    return (shutil.copy(program, folder / "later"),)


def on_one_of_another_namespace(program: Path, folder: Path) -> Command:
    script = f"mount -t tmpfs portero {folder}; cp {program} {folder}/own; sleep 2; exec {folder}/own"
    return ("unshare", "--mount", "sh", "-c", script)


def as_a_script(program: Path, folder: Path) -> Command:
    script = folder / ("lesson.sh" if "Viewer" in program.name else "tides.sh")
    script.write_text("#!/bin/sh\nexit 0\n")
    script.chmod(0o755)
    return (script,)


def by_the_loader(program: Path, folder: Path) -> Command:
    loader = next(path for path in LOADERS if Path(path).exists())
    return (loader, shutil.copy("/bin/true", folder / ("lesson" if "Viewer" in program.name else "tides")))


def by_its_interpreter(program: Path, folder: Path) -> Command:
    return ("sh", *as_a_script(program, folder))


def from_memory(program: Path, folder: Path) -> Command:
    code = "import os, sys; f = os.memfd_create('a', 0); os.write(f, open(sys.argv[1], 'rb').read()); "
    return (sys.executable, "-c", code + "os.execv(f'/proc/self/fd/{f}', ['a'])", program)


def as_a_changed_copy(program: Path, folder: Path) -> Command:
    changed = Path(shutil.copy(program, folder / "changed"))
    changed.write_bytes(changed.read_bytes() + b"!")
    return (changed,)


WAYS: dict[str, Callable[[Path, Path], Command]] = {
    "as it is": as_it_is,
    "under another name": under_another_name,
    "a copy of it": as_a_copy,
    "through a hard link": through_a_hard_link,
    "through a symbolic link": through_a_symbolic_link,
    "its file mounted in another place": mounted_in_another_place,
    "its file mounted over a program that may start, in a mount namespace of one's own": mounted_over_another,
    "in a mount namespace of one's own": in_a_mount_namespace,
    "a copy on another file system": on_another_file_system,
    "a copy on a file system mounted later": on_one_mounted_later,
    "a copy on a file system that only a mount namespace of one's own has": on_one_of_another_namespace,
    "a script, by its `#!` line": as_a_script,
    "by the dynamic loader, called with the program": by_the_loader,
    "by its interpreter, called with the script": by_its_interpreter,
    "from a file in memory": from_memory,
    "a copy that was changed, under another name": as_a_changed_copy,
}
TABLE = (
    (ROOT / "docs/explanation/startup.md").read_text().partition("<!-- ways round -->")[2].partition("<!-- end -->")[0]
)
SHOWN = dict(re.findall(r"^\| (?!Started|---)(.+?) \| \*?\*?(.+?)\*?\*? \|", TABLE, re.MULTILINE))


def test_the_table_of_ways_round_names_those_that_are_tried():
    assert set(SHOWN) == set(WAYS)


@pytest.mark.parametrize("way", WAYS)
def test_what_the_table_of_ways_round_says_is_so(guarded, way):
    for program, may_start in ((guarded.other, True), (guarded.viewer, SHOWN[way] != "stopped")):
        folder = guarded.folder / f"way-{list(WAYS).index(way)}-{may_start}-{program.name}"
        folder.mkdir()
        assert guarded.starts(*WAYS[way](program, folder)) is may_start


# --- what people and machines are told ---


def test_what_is_excluded_starts_and_everything_is_told(guarded, portero):
    assert guarded.starts(guarded.newer)
    assert not guarded.starts(guarded.viewer)
    assert "Deckhand-Viewer (no-viewers on whole-fleet blocks it" in guarded.log()
    told = soon(lambda: list(portero.activity.list(device="guard-01", program="deckhand")))
    assert (told[0].start.version, told[0].verdict, told[0].user) == ("4.1", "block", "root")
    assert told[0].url is told[0].host is None
    assert "/sh" in told[0].parent or "/dash" in told[0].parent
    assert told[0].reference
    assert told[0].reference in "".join(guarded.process.lines)
    facts = soon(lambda: portero.devices.get("guard-01").facts.layers.startup == "enforcing")
    assert facts


def test_a_warning_refuses_once_and_lets_the_next_start_through(guarded, portero):
    assert not guarded.starts(guarded.racer)
    assert guarded.starts(guarded.racer)
    told = soon(lambda: len(found := list(portero.activity.list(program="reef"))) > 1 and found)
    assert {(one.verdict, one.continued) for one in told} == {("warn", True), ("warn", False)}


def test_a_rule_for_one_person_stops_nobody_else(guarded):
    assert not guarded.starts(guarded.watch, user="nobody")
    assert guarded.starts(guarded.watch)


# --- what runs already ---


def test_what_runs_as_the_rule_comes_is_told_and_ended_after_a_countdown(guarded, portero):
    lesson = shutil.copy("/bin/sleep", guarded.folder / "long-lesson")
    master, slave = os.openpty()
    running = subprocess.Popen(
        [lesson, "600"], stdin=slave, stdout=slave, start_new_session=True, preexec_fn=take_terminal
    )
    try:
        portero.assignments.create(assignment("no-long", "whole-fleet", end_running=True))
        assert running.wait(40) == -signal.SIGTERM
    finally:
        running.kill()
    assert "long-lesson will be ended in 2 seconds" in os.read(master, 5000).decode()
    told = soon(lambda: list(portero.activity.list(program="long-lesson")))
    assert [(one.verdict, one.running, one.user) for one in told] == [("block", "ended", "root")]
    assert not guarded.starts(lesson, "0")


def take_terminal() -> None:
    """Have the terminal that is standard input for one's own."""
    fcntl.ioctl(0, termios.TIOCSCTTY, 0)


# --- never stuck ---


class Starting(threading.Thread):
    """Starts a program over and over; the longest that a start took, and how they ended."""

    def __init__(self, program: Path) -> None:
        super().__init__()
        self.program, self.longest, self.ended, self.going = program, 0.0, set[bool](), True
        self.start()

    def run(self) -> None:
        while self.going:
            began = time.monotonic()
            try:
                self.ended.add(subprocess.run([self.program], check=False).returncode == 0)
            except PermissionError:
                self.ended.add(False)
            self.longest = max(self.longest, time.monotonic() - began)

    def done(self) -> None:
        self.going = False
        self.join()


@pytest.fixture
def starting(guarded) -> Iterator[list[Starting]]:
    made = [Starting(program) for program in (guarded.viewer, guarded.other)]
    time.sleep(1)
    yield made
    for one in made:
        one.done()


def test_a_guard_that_is_killed_under_load_is_back_and_no_start_hangs(guarded, starting, record_property):
    for _ in range(3):
        was = guarded.guard.pid
        os.kill(was, signal.SIGKILL)
        soon(lambda was=was: guarded.guard.pid != was)
        time.sleep(1)
    for one in starting:
        one.done()
    assert max(one.longest for one in starting) < HUNG
    assert starting[1].ended == {True}
    assert not guarded.starts(guarded.viewer)
    assert "begun anew, as it had ended" in guarded.log()
    record_property("summary", f"guard killed under load: the longest start took {starting[1].longest:.2f} s")


def test_bundles_that_change_under_load_hold_no_start_up(guarded, starting, portero):
    for number in range(4):
        portero.rulesets.create(
            Ruleset.model_validate(
                {
                    "key": f"more-{number}",
                    "kind": "startup",
                    "rules": [{"application_set": "games", "action": "warn"}],
                }
            )
        )
        portero.assignments.create(assignment(f"more-{number}", "whole-fleet"))
        time.sleep(1.2)
    for one in starting:
        one.done()
    assert max(one.longest for one in starting) < HUNG
    assert [one.ended for one in starting] == [{False}, {True}]


def test_a_guard_that_hangs_is_ended_and_what_waited_goes_on(guarded, starting):
    was = guarded.guard.pid
    assert guarded.guard.rlimit(psutil.RLIMIT_NOFILE)[0] <= 1024, "the watcher answers for that many files"
    os.kill(was, signal.SIGSTOP)
    soon(lambda: not psutil.pid_exists(was))
    soon(lambda: "begun anew, as it answered no longer" in guarded.log())
    soon(lambda: not guarded.starts(guarded.viewer))
    for one in starting:
        one.done()
    assert max(one.longest for one in starting) < HUNG


def test_a_watcher_that_is_killed_takes_the_guard_along_and_comes_back(guarded, portero):
    before = guarded.guard.pid
    guarded.watcher.kill()
    soon(lambda: not psutil.pid_exists(before))
    assert guarded.starts(guarded.other)
    soon(lambda: not guarded.starts(guarded.viewer))


def test_a_program_that_cannot_be_read_in_time_passes_and_is_told(guarded):
    big = put_test_program(guarded.folder, "Sounding", "1.0")
    os.truncate(big, 6 << 30)
    anew = "begun anew, as it answered no longer"
    before = guarded.log().count(anew)
    began = time.monotonic()
    assert guarded.starts(big)
    assert time.monotonic() - began < HUNG
    in_time = "could not be looked at in time, and its start was let through"
    # where others take the machine's time, the guard itself may come too late, and is begun anew
    soon(lambda: in_time in (said := guarded.log()) or said.count(anew) > before)
    big.unlink()


# --- without root ---


def test_who_may_not_guard_says_what_it_needs(guarded):
    run = (sys.executable, "-m", "portero.endpoint.guard.watching", "--data", guarded.data, "--below", "/")
    without = ("setpriv", "--bounding-set=-sys_admin", "--inh-caps=-sys_admin")
    done = subprocess.run([*without, *run, "--countdown", "60"], capture_output=True, text=True, check=False)
    assert done.returncode == CANNOT
    assert "stopping programs needs root" in done.stdout


def test_a_machine_that_cannot_guard_observes_and_says_why(rules, service, portero, tmp_path):
    code = portero.enrolment.create_code(NewEnrolmentCode()).code
    run_endpoint("join", "--service", service.url, "--code", code, "--hostname", "guard-02", "--data", tmp_path)
    process = Process(
        *("portero.endpoint.main", "run", "--data", tmp_path, "--port", 0, "--every", 1, "--no-programs", "--guard"),
        without="sys_admin",
    )
    soon(lambda: portero.devices.get("guard-02").facts.layers.startup == "observing")
    process.stop()
    said = "".join(process.lines)
    assert "stopping programs needs root" in said
    assert "the guard answers" not in said
    caveats = portero.checks.check(
        Attempt.model_validate({"device": "guard-02", "start": {"product": "Deckhand-Viewer", "version": "4.1"}})
    ).effective.caveats
    assert "startup-observing" in [one.code for one in caveats]


def test_the_launcher_starts_what_may_start_and_refuses_the_rest(guarded):
    launched = run_endpoint("start", "--data", guarded.data, guarded.viewer, expect=126)
    assert "Deckhand-Viewer 4.1 is not started on this machine" in launched.stderr
    warned = run_endpoint("start", "--data", guarded.data, guarded.racer, expect=126)
    assert "asks you to think twice" in warned.stderr
    gone = run_endpoint("start", "--data", guarded.data, "nowhere-to-be-found", expect=1)
    assert "There is no program nowhere-to-be-found" in gone.stderr
    command = [sys.executable, "-m", "portero.endpoint.main", "start", "--data", guarded.data]
    for given in ((guarded.other,), ("--go-on", guarded.racer), ("sh", "-c", "exit 0")):
        subprocess.run([*command, *given], check=True)
    assert subprocess.run([*command, "sh", "-c", "exit 7"], check=False).returncode == 7


def test_a_terminal_is_written_plainly(tmp_path):
    master, slave = os.openpty()
    write_on(os.ttyname(slave), "Deckhand\x1b[2J is not started")
    assert os.read(master, 500) == "\r\r\nPortero: Deckhand�[2J is not started\r\r\n".encode()
    (tmp_path / "file").touch()
    write_on(str(tmp_path / "file"), "nothing but a terminal is written on")
    assert not (tmp_path / "file").read_bytes()
