"""Programs read from their files: what versions, packages, signatures and the desktop say; and hostile files."""

from __future__ import annotations

import hashlib
import os
import random
import struct
import time
from pathlib import Path

import pytest

from made_programs import portable_executable, signed
from portero.formats.programs import worker
from portero.formats.programs.desktop_entries import desktop_entries
from portero.formats.programs.packages import PackageOwners, upstream
from portero.formats.programs.reading import NotAProgram, ProgramReader

VIEWER = {
    "CompanyName": "Deckhand",
    "ProductName": "Deckhand Viewer",
    "ProductVersion": "4.1",
    "FileVersion": "4.1.0.7",
    "OriginalFilename": "viewer.exe",
}


@pytest.fixture(scope="module")
def reader(tmp_path_factory):
    made = ProgramReader(PackageOwners(tmp_path_factory.mktemp("no-database")), dict)
    yield made
    made.close()


def written(path: Path, data: bytes) -> Path:
    path.write_bytes(data)
    path.chmod(0o755)
    return path


def test_a_windows_program_says_what_it_is_and_who_signed_it(reader, tmp_path):
    program = written(tmp_path / "setup.exe", portable_executable(VIEWER))
    plain = reader.read(program)
    assert (plain.kind, plain.problems, plain.size) == ("pe", (), program.stat().st_size)
    thumbprint = signed(program, tmp_path)
    told = reader.read(program)
    assert told.problems == ()
    assert told.application.model_dump(exclude_none=True) == {
        "file": "setup.exe",
        "path": str(program),
        "product": "Deckhand Viewer",
        "vendor": "Deckhand",
        "version": "4.1",
        "signer": "Brackwater Ferries IT",
        "certificate": thumbprint,
        "sha256": hashlib.sha256(program.read_bytes()).hexdigest(),
    }


@pytest.mark.parametrize("place", [0x200, 0x3F0])
def test_a_program_that_was_tampered_with_has_no_signer(reader, tmp_path, place):
    program = written(tmp_path / "setup.exe", portable_executable(VIEWER))
    signed(program, tmp_path)
    data = bytearray(program.read_bytes())
    data[place] ^= 1
    told = reader.read(written(program, bytes(data)))
    assert (told.application.signer, told.application.certificate) == (None, None)
    assert told.problems == ("unsigned: signature broken",)


def test_a_package_that_owns_a_file_says_what_it_is(tmp_path):
    program = written(tmp_path / "gnomon", b"#!/bin/sh\n")
    info = tmp_path / "dpkg/info"
    info.mkdir(parents=True)
    (info / "gnomon:amd64.list").write_text(f"/.\n{program}\n/bin/old-place\n")
    status = (
        "Package: gnomon\nSection: contrib/graphics\nVersion: 2:1.10~rc1-4+b1\nMaintainer: A Post <post@example.test>\n"
    )
    (tmp_path / "dpkg/status").write_text(f"Package: other\nVersion: 1\n\n{status}\n")
    owners = PackageOwners(tmp_path / "dpkg")
    told = ProgramReader(owners, dict).read(program)
    assert (told.kind, told.package) == ("script", "gnomon")
    own = told.application
    assert (own.product, own.version, own.vendor, own.category) == ("gnomon", "1.10~rc1", "A Post", "imaging")
    assert owners.owner_of(Path("/usr/bin/old-place")) is not None, "a place that is a link by now"
    assert owners.owner_of(tmp_path / "nothing") is None


@pytest.mark.parametrize(("version", "plain"), [("1:7.88.1-10+deb12u5", "7.88.1"), ("9.1", "9.1"), ("2-1-3", "2-1")])
def test_a_packages_version_is_that_of_what_it_packs(version, plain):
    assert upstream(version) == plain


def test_what_has_no_package_is_told_by_the_desktop(tmp_path, monkeypatch):
    program = written(tmp_path / "bin-viewer", b"\x7fELF")
    monkeypatch.setenv("PATH", str(tmp_path))
    (tmp_path / "viewer.desktop").write_text(
        "[Desktop Entry]\nName=Deckhand Viewer\nExec=env LANG=C bin-viewer %F\nCategories=Network;RemoteAccess;\n"
    )
    (tmp_path / "gone.desktop").write_text("[Desktop Entry]\nName=Gone\nExec=nowhere-at-all\n")
    (tmp_path / "broken.desktop").write_bytes(b"\xff\xfe no entry\n[[")
    (tmp_path / "unquoted.desktop").write_text('[Desktop Entry]\nExec="bin-viewer\n')
    reader = ProgramReader(PackageOwners(tmp_path), lambda: desktop_entries([tmp_path, tmp_path / "nowhere"]))
    own = reader.read(program).application
    reader.close()
    assert (own.product, own.category) == ("Deckhand Viewer", "remote-access")


def test_an_app_image_is_told_by_its_name(reader, tmp_path):
    begin = b"\x7fELF\x02\x01\x01\x00AI\x02" + b"\0" * 40
    own = reader.read(written(tmp_path / "Chart_Table-3.1.2-x86_64.AppImage", begin)).application
    assert (own.product, own.version) == ("Chart Table", "3.1.2")
    own = reader.read(written(tmp_path / "deckhand-x86_64.AppImage", begin)).application
    assert (own.product, own.version) == ("deckhand", None)


def test_an_elf_file_of_this_machine_has_its_build_id(reader):
    told = reader.read(Path("/bin/ls"))
    assert told.kind == "elf"
    assert told.build_id
    assert len(told.build_id) == 40


# --- hostile files ---


def endless_sections() -> bytes:
    data = bytearray(portable_executable(VIEWER))
    struct.pack_into("<H", data, 64 + 4 + 2, 0xFFFF)
    return bytes(data)


def circular_resources() -> bytes:
    data = bytearray(portable_executable(VIEWER))
    struct.pack_into("<I", data, 0x400 + 20, 0x80000000)
    return bytes(data)


HOSTILE = {
    "nothing behind the magic": b"MZ",
    "cut off": portable_executable(VIEWER)[:300],
    "an offset far outside": b"MZ" + b"\0" * 58 + struct.pack("<I", 0x7FFFFFFF),
    "endless sections": endless_sections(),
    "resources in a circle": circular_resources(),
    "an ELF header alone": b"\x7fELF" + b"\xff" * 60,
    "an ELF file of noise": b"\x7fELF\x02\x01\x01" + random.Random(1).randbytes(100_000),
}


@pytest.mark.parametrize("name", HOSTILE)
def test_a_hostile_file_is_read_within_its_bounds_and_the_next_one_after_it(reader, tmp_path, name):
    program = written(tmp_path / "hostile", HOSTILE[name])
    began = time.monotonic()
    told = reader.read(program)
    assert time.monotonic() - began < 3 * worker.SECONDS
    assert told.application.sha256 == hashlib.sha256(HOSTILE[name]).hexdigest()
    good = written(tmp_path / "good.exe", portable_executable(VIEWER))
    assert reader.read(good).application.product == "Deckhand Viewer"


@pytest.mark.parametrize("place", range(0, 1_200, 37))
def test_any_byte_of_a_program_may_be_another(reader, tmp_path, place):
    data = bytearray(portable_executable(VIEWER))
    data[place % len(data)] ^= 0xFF
    assert reader.read(written(tmp_path / "some.exe", bytes(data))).size == len(data)


def test_a_reader_that_hangs_is_ended(monkeypatch, tmp_path):
    monkeypatch.setattr(worker, "SECONDS", 0.0)
    headers = worker.HeaderReader()
    assert "take longer to read" in headers.read(written(tmp_path / "a.exe", portable_executable()))["problems"][0]
    monkeypatch.setattr(worker, "SECONDS", 20.0)
    assert headers.read(tmp_path / "a.exe")["problems"] == []
    headers.close()


def test_big_files_are_bounded_and_told(reader, tmp_path):
    big = tmp_path / "big.exe"
    with big.open("wb") as file:
        file.write(b"MZ")
        file.truncate(4 * 2**30)
    told = reader.read(big)
    assert told.application.sha256 is None
    assert told.problems == (
        "it is bigger than 2 GB, so no SHA-256 is made of it",
        "its headers are not read, as it is bigger than 200 MB",
    )


def test_what_is_no_file_is_said(reader, tmp_path):
    (tmp_path / "one").symlink_to(tmp_path / "two")
    (tmp_path / "two").symlink_to(tmp_path / "one")
    os.mkfifo(tmp_path / "pipe")
    for path, says in (
        ("one", "a circle of links"),
        ("pipe", "a pipe"),
        (".", "a folder"),
        ("nowhere", "No such file"),
    ):
        with pytest.raises(NotAProgram, match=says):
            reader.read(tmp_path / path)
    with pytest.raises(NotAProgram, match="a device"):
        reader.read(Path("/dev/zero"))


def test_a_name_that_is_no_utf8_is_shown_by_escapes(reader, tmp_path):
    path = Path(os.fsdecode(os.fsencode(tmp_path) + b"/\xff\xfeviewer"))
    told = reader.read(written(path, b"#!/bin/sh\n"))
    assert told.application.file == "\\xff\\xfeviewer"
    assert told.problems == ("its name is no UTF-8",)
