"""Backups: made while the service goes on, looked through, put back; and machines that hold more than a service has."""

from __future__ import annotations

import io
import json
import shutil
import sqlite3
import tarfile
import threading
import time
from contextlib import closing

import httpx
import pytest
import zstandard

from conftest import Wire, assignment, eventually, ruleset, run_portero, signed
from portero.endpoint.held_policy import Newest
from portero.formats.manifests import open_manifest
from portero.formats.packing import BadBundle
from portero.store import backups
from portero.store.backups import BadBackup
from portero.store.data_folder import DATABASE
from serving import Served


@pytest.fixture
def served(tmp_path):
    made = Served.of(tmp_path / "service")
    yield made
    made.stop()
    made.keepers.close()


def block(portero, key: str) -> None:
    portero.rulesets.create(ruleset(key, games="block"))
    portero.assignments.create(assignment(key, "whole-fleet"))


def newest_of(device: Wire, offered: dict) -> Newest:
    return Newest.of(open_manifest(offered["manifest"], device.key))


def take(device: Wire) -> Newest:
    """Check in and say that what is offered was applied; what the machine has noted of it."""
    offered = device.check_in(manifests=[1, 2]).json()
    manifest = open_manifest(offered["manifest"], device.key)
    device.check_in(
        manifests=[1, 2], have=manifest.name, revision=manifest.revision, epoch=manifest.epoch, index=manifest.index
    )
    return Newest.of(manifest)


def test_a_backup_made_in_a_stream_of_changes_is_whole(served, tmp_path):
    with served.client() as portero:
        block(portero, "first")
        ending = threading.Event()

        def go_on() -> None:
            with served.client() as changing:
                number = 0
                while not ending.is_set():
                    block(changing, f"rules-{number}")
                    number += 1

        changing = threading.Thread(target=go_on)
        changing.start()
        made = [backups.create(served.data, tmp_path / f"{n}.backup", time.time()) for n in range(3)]
        ending.set()
        changing.join()
        assert made[0].revision <= made[1].revision <= made[2].revision <= next(portero.revisions.list(limit=1)).number
    for number, record in enumerate(made):
        file = tmp_path / f"{number}.backup"
        assert backups.check(file) == record
        assert file.stat().st_mode & 0o077 == 0
        restored = tmp_path / f"restored-{number}"
        backups.restore(file, restored, time.time())
        again = Served.of(restored)
        assert again.keepers.estate.snapshot.revision == record.revision
        again.stop()
        again.keepers.close()
    assert list(tmp_path.glob(".portero-*")) == []


def test_activity_is_left_out_where_that_is_asked(served, tmp_path):
    with served.client() as portero:
        device = Wire(served, portero, "seen")
        attempt = {"seq": 1, "at": "2026-01-01T00:00:00Z", "url": "http://a.example/", "host": "a.example"}
        device.http.post("activity", json={"batch": 1, "attempts": [{**attempt, "verdict": "block"}]})
    for activity in (True, False):
        record = backups.create(served.data, tmp_path / "b", time.time(), activity=activity)
        folder = tmp_path / f"with-{activity}"
        backups.restore(tmp_path / "b", folder, time.time())
        with closing(sqlite3.connect(folder / DATABASE)) as connection:
            (number,) = connection.execute("SELECT count(*) FROM activity").fetchone()
        assert (record.activity, number) == (activity, int(activity))


def plain_of(packed: bytes) -> bytes | None:
    """What a zstd frame holds; None where it does not unpack."""
    try:
        return zstandard.ZstdDecompressor().stream_reader(io.BytesIO(packed)).read()
    except zstandard.ZstdError:
        return None


@pytest.mark.parametrize("place", [0.1, 0.3, 0.5, 0.9])
def test_a_backup_with_one_byte_changed_is_refused_and_nothing_is_put_back(served, tmp_path, place):
    file = tmp_path / "b"
    backups.create(served.data, file, time.time())
    whole = file.read_bytes()
    # one byte in some hundreds only says in another way what it said (a match further back): nothing is lost there
    start = int(len(whole) * place)
    changes = (whole[:at] + bytes([whole[at] ^ 0x10]) + whole[at + 1 :] for at in range(start, len(whole)))
    file.write_bytes(next(changed for changed in changes if plain_of(changed) != plain_of(whole)))
    with pytest.raises(BadBackup):
        backups.check(file)
    with pytest.raises(BadBackup):
        backups.restore(file, tmp_path / "new", time.time())
    assert [path.name for path in (tmp_path / "new").iterdir()] == ["service.lock"]


@pytest.mark.parametrize("keep", [0, 10, 0.5, 0.99])
def test_a_backup_that_was_cut_off_is_refused(served, tmp_path, keep):
    file = tmp_path / "b"
    backups.create(served.data, file, time.time())
    data = file.read_bytes()
    file.write_bytes(data[: keep if isinstance(keep, int) else int(len(data) * keep)])
    with pytest.raises(BadBackup):
        backups.check(file)


def rewritten(file, change) -> None:
    """The archive with its members changed."""
    plain = zstandard.ZstdDecompressor().stream_reader(io.BytesIO(file.read_bytes())).read()
    members = []
    with tarfile.open(fileobj=io.BytesIO(plain)) as archive:
        members = [(entry, archive.extractfile(entry).read()) for entry in archive]
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        for entry, data in change(members):
            entry.size = len(data)
            archive.addfile(entry, io.BytesIO(data))
    file.write_bytes(zstandard.ZstdCompressor().compress(out.getvalue()))


def _named(name: str, type: bytes = tarfile.REGTYPE, link: str = "") -> tuple[tarfile.TarInfo, bytes]:
    entry = tarfile.TarInfo(name)
    entry.type, entry.linkname = type, link
    return entry, b"" if link else b"x"


STRANGE = {
    "above": lambda members: [*members, _named("../above")],
    "absolute": lambda members: [*members, _named("/tmp/above")],
    "link": lambda members: [members[0], _named(DATABASE, tarfile.SYMTYPE, "/etc/passwd"), *members[2:]],
    "without record": lambda members: members[1:],
    "record of tomorrow": lambda members: [
        (members[0][0], members[0][1].replace(b'"portero_backup":1', b'"portero_backup":9')),
        *members[1:],
    ],
    "without a file": lambda members: members[:-1],
    "one twice": lambda members: [*members, members[1]],
}


@pytest.mark.parametrize("change", STRANGE.values(), ids=STRANGE)
def test_a_backup_that_means_harm_is_refused(served, tmp_path, change):
    file = tmp_path / "b"
    backups.create(served.data, file, time.time())
    rewritten(file, change)
    with pytest.raises(BadBackup):
        backups.restore(file, tmp_path / "new", time.time())
    assert not (tmp_path / "new" / DATABASE).exists()
    assert not (tmp_path / "above").exists()


def test_what_is_no_folder_of_a_service_is_told(tmp_path):
    with pytest.raises(FileNotFoundError, match="holds no data of a service"):
        backups.create(tmp_path, tmp_path / "b", time.time())
    assert list(tmp_path.iterdir()) == []


def test_nothing_is_put_back_where_a_service_works_or_has_worked(served, tmp_path):
    file = tmp_path / "b"
    backups.create(served.data, file, time.time())
    with pytest.raises(BadBackup, match="is in use by the service"):
        backups.restore(file, served.data, time.time(), replace=True)
    backups.restore(file, tmp_path / "other", time.time())
    with pytest.raises(FileExistsError, match="--replace"):
        backups.restore(file, tmp_path / "other", time.time())
    _, aside = backups.restore(file, tmp_path / "other", time.time(), replace=True)
    assert aside is not None
    assert (aside / DATABASE).exists()


def test_after_a_restore_machines_take_lower_revisions(served, tmp_path):
    file = tmp_path / "b"
    with served.client() as portero:
        device = Wire(served, portero, "kept")
        block(portero, "before")
        before = take(device)
        backups.create(served.data, file, time.time())
        for number in range(3):
            block(portero, f"since-{number}")
        since = take(device)
    assert (since.epoch, since.revision > before.revision) == (1, True)
    served.stop()
    served.keepers.close()
    backups.restore(file, served.data, time.time(), replace=True)
    again = Served.of(served.data)
    device.http.base_url = again.url + "/device/v1"
    offered = device.check_in(manifests=[1, 2], have="sha256:since", revision=since.revision, epoch=since.epoch).json()
    manifest = open_manifest(offered["manifest"], device.key)
    assert manifest.revision < since.revision
    since.refuse_older(manifest)
    assert httpx.get(again.url + "/readyz").json().get("problem") is None
    again.stop()
    again.keepers.close()


def test_a_store_that_was_merely_copied_back_is_noticed_and_adopted(served, tmp_path):
    with served.client() as portero:
        device = Wire(served, portero, "ahead")
        block(portero, "before")
        take(device)
        served.keepers.store._writer.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        copied = shutil.copytree(served.data, tmp_path / "copied")
        block(portero, "since")
        since = take(device)
    served.stop()
    served.keepers.close()

    again = Served.of(copied)
    with again.client(password=served.password) as portero:
        device.http.base_url = again.url + "/device/v1"
        assert portero.epoch.get().devices_ahead == 0
        told = {"have": "sha256:of-since", "revision": since.revision, "epoch": since.epoch, "manifests": [1, 2]}
        offered = device.check_in(**told).json()
        with pytest.raises(BadBundle, match="older than"):
            since.refuse_older(open_manifest(offered["manifest"], device.key))
        state = portero.epoch.get()
        assert (state.devices_ahead, "portero backup adopt" in state.problem) == (1, True)

        # what is told without a token is looked up once a second
        def told_by() -> str:
            return httpx.get(again.url + "/readyz").json().get("problem", "")

        eventually(lambda: "1 machine holds something newer" in told_by())
        assert any("portero backup adopt" in item.next for item in portero.worklist.get().items)
        token = signed(portero)["Authorization"].removeprefix("Bearer ")
        environment = {"PORTERO_URL": again.url, "PORTERO_TOKEN": token}

        adopt = run_portero("backup", "adopt", "--yes", env=environment)
        assert "machines take what it says" in adopt.stdout
        offered = device.check_in(**told).json()
        manifest = open_manifest(offered["manifest"], device.key)
        since.refuse_older(manifest)
        device.check_in(have=manifest.name, revision=manifest.revision, epoch=manifest.epoch, manifests=[1, 2])
        assert portero.epoch.get().devices_ahead == 0
        eventually(lambda: not told_by())
    again.stop()
    again.keepers.close()


def test_a_reader_begins_no_epoch(served):
    with served.client() as portero:
        made = httpx.post(
            served.url + "/api/v1/tokens", headers=signed(portero), json={"label": "reads", "role": "reader", "days": 1}
        ).json()
        told = httpx.post(served.url + "/api/v1/epoch", headers={"Authorization": f"Bearer {made['secret']}"})
        assert told.status_code == 403


def test_the_commands(served, tmp_path):
    file = tmp_path / "day.backup"
    told = run_portero("backup", "create", file, "--data", served.data)
    assert "revision 0" in told.stdout
    assert "with activity" in told.stdout
    assert json.loads(run_portero("backup", "check", file, "--json").stdout)["portero_backup"] == 1
    told = run_portero("backup", "restore", file, "--data", tmp_path / "new")
    assert "portero serve --data" in told.stdout
    told = run_portero("backup", "restore", file, "--data", served.data, "--replace", "--yes", expect=1)
    assert "is in use by the service that runs as process" in told.stderr
    told = run_portero("backup", "check", tmp_path / "none", expect=1)
    assert "No such file" in told.stderr
    told = run_portero("backup", "create", tmp_path / "x", "--data", tmp_path / "nowhere", expect=1)
    assert "name its folder with --data" in told.stderr
