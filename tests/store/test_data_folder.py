"""A data folder has one service, and its owner alone reads it."""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import time

import httpx
import pytest

from portero.service.keepers import open_keepers
from portero.store.data_folder import DATABASE, DataFolder, FolderInUse
from portero.store.database import Store, StoreDamaged, StoreProblem
from serving import Served

HOLD = "import sys; from pathlib import Path; from portero.store.data_folder import DataFolder\n"
HOLD += "held = DataFolder(Path(sys.argv[1])); print('held', flush=True); sys.stdin.read()"


def test_a_second_process_is_refused_and_told_of_the_first(tmp_path):
    with subprocess.Popen(
        [sys.executable, "-c", HOLD, tmp_path], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    ) as first:
        assert first.stdout
        assert first.stdout.readline() == "held\n"
        with pytest.raises(FolderInUse, match=f"process {first.pid}; stop that one first"):
            DataFolder(tmp_path)
        first.kill()
        first.wait()
    # a killed process holds nothing
    DataFolder(tmp_path).close()


def test_a_second_service_of_the_same_folder_does_not_start(tmp_path):
    keepers = open_keepers(tmp_path)
    try:
        serve = [sys.executable, "-m", "portero.cli.main", "serve", "--port", "0", "--data", tmp_path]
        second = subprocess.run(serve, capture_output=True, text=True, timeout=60)
        assert second.returncode == 1
        assert f"is in use by the service that runs as process {os.getpid()}" in second.stderr
        assert "Traceback" not in second.stderr
    finally:
        keepers.close()
    open_keepers(tmp_path).close()


def test_files_of_an_existing_folder_are_its_owners_alone(tmp_path):
    tmp_path.chmod(0o755)
    open_keepers(tmp_path).close()
    for file in (tmp_path / DATABASE, tmp_path / "signing-key.pem"):
        file.chmod(0o644)
    keepers = open_keepers(tmp_path)
    try:
        modes = {file.name: file.stat().st_mode & 0o077 for file in tmp_path.iterdir()}
        assert {name for name, others in modes.items() if others} == set()
        assert f"{DATABASE}-wal" in modes
    finally:
        keepers.close()


@pytest.fixture
def served(tmp_path):
    made = Served.of(tmp_path)
    yield made
    made.stop()


def test_a_store_that_takes_no_more_is_not_ready(served):
    assert httpx.get(served.url + "/readyz").status_code == 200
    time.sleep(1.1)  # it is really tried once a second
    before = resource.getrlimit(resource.RLIMIT_FSIZE)
    # no file may grow beyond what the log of changes has already: as on a disk that takes no more
    most = (served.data / f"{DATABASE}-wal").stat().st_size
    resource.setrlimit(resource.RLIMIT_FSIZE, (most, before[1]))
    try:
        answer = httpx.get(served.url + "/readyz", timeout=5)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, before)
    assert answer.status_code == 503
    assert "look at its disk" in answer.json()["detail"]
    time.sleep(1.1)
    assert httpx.get(served.url + "/readyz").status_code == 200


def test_a_damaged_store_says_at_once_what_helps(served):
    client = httpx.Client(base_url=served.url, timeout=5)
    client.post("/api/v1/session", json={"name": "keeper", "password": served.password})
    served.keepers.store._writer.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    with (served.data / DATABASE).open("r+b") as file:
        size = file.seek(0, os.SEEK_END)
        file.seek(0)
        file.write(os.urandom(size))
    for path in ("/readyz", "/api/v1/devices"):
        answer = client.get(path)
        assert answer.status_code == 503, path
        assert "is damaged" in answer.json()["detail"]
        assert "portero backup restore" in answer.json()["detail"]


def test_what_a_service_finds_damaged_at_its_start_is_told(tmp_path):
    path = tmp_path / DATABASE
    Store(path).close()
    path.write_bytes(b"years of work, and no database at all " * 200)
    with pytest.raises(StoreDamaged, match="put a backup in its place"):
        open_keepers(tmp_path)
    # and the folder is free again
    path.unlink()
    open_keepers(tmp_path).close()


def test_another_users_store_is_refused_with_the_reason(tmp_path, monkeypatch):
    open_keepers(tmp_path).close()
    (tmp_path / DATABASE).chmod(0o644)

    def refuse(*_arguments: object) -> None:
        raise PermissionError("not yours")

    monkeypatch.setattr("pathlib.Path.chmod", refuse)
    with pytest.raises(StoreProblem, match="can be read by others"):
        DataFolder(tmp_path)
