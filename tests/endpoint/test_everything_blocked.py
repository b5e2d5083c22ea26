"""A machine on which nothing may start can be signed in to, and mended: tried in a throw-away root file system."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from made_folders import joined_folder
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.ruleset import Ruleset
from portero.endpoint.test_program import put_test_program

pytestmark = [
    pytest.mark.process,
    pytest.mark.skipif(os.geteuid() != 0, reason="only root may guard a machine"),
]
NOTHING = Ruleset.model_validate(
    {"key": "nothing", "kind": "startup", "rules": [{"everything": True, "action": "block"}]}
)
ESTATE = Estate(rulesets=(NOTHING,), assignments=(Assignment(key="a", ruleset="nothing", to=("whole-fleet",)),))
INSIDE = """
set -u
mkfifo /tmp/asked
{python} -m portero.endpoint.guard.watching --data {data} --below / --countdown 60 < /tmp/asked > /tmp/told &
exec 9> /tmp/asked
for _ in $(seq 200); do grep -q guards /tmp/told && break; sleep 0.1; done
{commands}
exec 9>&-
wait
"""
MAY = {
    "root's shell": "bash -c 'exit 0'",
    "signing in as root": "su - root -c 'exit 0'",
    "a package, put in with its script": "dpkg -i /tmp/made.deb",
    "the package manager": "apt-get --version",
    "which packages are there": "dpkg-query --show portero-made",
    "a package, taken out": "dpkg --purge portero-made",
    "what files are there": "ls /",
    "the endpoint": "{python} -m portero.endpoint.main log --data {data}",
}
MAY_NOT = {
    "a program": "{program}",
    "somebody's shell": "setpriv --reuid=nobody --clear-groups sh -c 'exit 0'",
    "somebody's package manager": "setpriv --reuid=nobody --clear-groups apt-get --version",
    "a program under an essential one's name": "{named}",
}


@pytest.fixture(scope="module")
def outcomes(tmp_path_factory) -> dict[str, int]:
    """How each command ended, started where everything is blocked."""
    work = tmp_path_factory.mktemp("root")
    subprocess.run(["mount", "-t", "tmpfs", "portero", work], check=True)
    try:
        return _tried(work)
    finally:
        subprocess.run(["umount", "-R", "-l", work], check=True)


def _tried(work: Path) -> dict[str, int]:
    root = work / "root"
    for name in ("root", "upper", "work"):
        (work / name).mkdir()
    layers = f"lowerdir=/,upperdir={work}/upper,workdir={work}/work"
    subprocess.run(["mount", "-t", "overlay", "portero", "-o", layers, root], check=True)
    # what is put there stays in the upper layer, and goes with it
    (inside := root / "tmp/everything").mkdir()
    data = Path("/tmp/everything/data")
    (root / "tmp/everything/data").mkdir()
    joined_folder(root / "tmp/everything/data", ESTATE)
    program = Path("/") / put_test_program(inside, "Tide_Table", "1.0").relative_to(root)
    named = shutil.copy(root / str(program)[1:], inside / "bash")
    _made_package(root / "tmp")
    words = {
        "python": sys.executable,
        "data": data,
        "program": program,
        "named": Path("/") / Path(named).relative_to(root),
    }
    commands = "\n".join(
        f"{command.format(**words)} > /tmp/out-{number} 2>&1; echo $? > /tmp/ended-{number}"
        for number, command in enumerate((*MAY.values(), *MAY_NOT.values()))
    )
    script = INSIDE.format(**words, commands=commands)
    going_in = f'mount --bind /dev {root}/dev; mount -t proc proc {root}/proc; exec chroot {root} /bin/sh -c "$0"'
    done = subprocess.run(
        ["unshare", "--mount", "--pid", "--fork", "--kill-child", "/bin/sh", "-ec", going_in, script],
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    ended = {}
    for number, name in enumerate((*MAY, *MAY_NOT)):
        ended[name] = int((root / f"tmp/ended-{number}").read_text())
        print(name, ended[name], (root / f"tmp/out-{number}").read_text()[-300:])
    return ended


def _made_package(folder: Path) -> None:
    package = folder / "made/DEBIAN"
    package.mkdir(parents=True)
    package.chmod(0o755)
    fields = {"Package": "portero-made", "Version": "1", "Architecture": "all", "Maintainer": "nobody <a@b.example>"}
    control = "".join(f"{name}: {value}\n" for name, value in fields.items())
    (package / "control").write_text(control + "Description: made by a test\n")
    for script in ("preinst", "postinst", "prerm", "postrm"):
        (package / script).write_text("#!/bin/sh\nset -e\ntouch /tmp/scripted\n")
        (package / script).chmod(0o755)
    subprocess.run(["dpkg-deb", "--build", package.parent, folder / "made.deb"], check=True, capture_output=True)


@pytest.mark.parametrize("what", MAY)
def test_what_a_machine_is_run_and_mended_with_starts(outcomes, what):
    assert outcomes[what] == 0


@pytest.mark.parametrize("what", MAY_NOT)
def test_all_else_does_not(outcomes, what):
    assert outcomes[what] == 126 if "nobody" not in MAY_NOT[what] else outcomes[what] != 0
