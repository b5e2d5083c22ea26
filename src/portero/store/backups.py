"""Backups: all that a service keeps, in one file that can be checked, and put back elsewhere in minutes.

The file is a tar archive (POSIX.1-2001) packed with zstd (RFC 8878); what is in it stands in docs/reference/backup.md.
"""

from __future__ import annotations

import hashlib
import io
import os
import re
import shutil
import sqlite3
import tarfile
import tempfile
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import BinaryIO

import msgspec
import zstandard
from cryptography.hazmat.primitives.serialization import load_pem_private_key

from portero import __version__
from portero.core.digests import digest_of_file
from portero.core.nouns.base import rfc3339
from portero.formats.owned_files import make_owned
from portero.store import audit, epochs, revisions
from portero.store.data_folder import ARTEFACTS, DATABASE, EVIDENCE_KEY, SIGNING_KEY, DataFolder
from portero.store.database import Store, StoreProblem
from portero.store.moments import moment

FORMAT = 1
RECORD = "backup.json"
ACTIVITY_TABLES = ("activity", "activity_hour", "activity_day", "activity_word", "visit_count", "host_seen")
MOST_BYTES = 200_000_000_000
_NAME = re.compile(
    rf"^({re.escape(DATABASE)}|{re.escape(SIGNING_KEY)}|{re.escape(EVIDENCE_KEY)}|{ARTEFACTS}/[0-9a-f]{{64}})$"
)
_CHUNK = 1 << 20


class BadBackup(ValueError):
    """The file is no backup, or not whole, or cannot be put back there; the message says what is wrong."""


class KeptFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A file of a backup: its name, digest and size in bytes."""

    name: str
    digest: str
    bytes: int


class BackupRecord(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a backup holds, and of when. `made_at` is RFC 3339 in UTC."""

    portero_backup: int
    made_at: str
    made_by: str
    revision: int
    epoch: int
    activity: bool
    files: tuple[KeptFile, ...]


# --- making one ---


def create(folder: Path, target: Path, now: float, *, activity: bool = True) -> BackupRecord:
    """Back a data folder up into a file, while its service goes on or not. The file is its owner's alone, and there
    whole or not at all; it was looked through before. FileNotFoundError, BadBackup, OSError.
    """
    if not (folder / DATABASE).exists():
        raise FileNotFoundError(f"{folder} holds no data of a service; name its folder with --data")
    with tempfile.TemporaryDirectory(dir=target.absolute().parent, prefix=".portero-backup-") as made:
        database = Path(made) / DATABASE
        _copy_database(folder / DATABASE, database, activity)
        with closing(sqlite3.connect(database)) as connection:
            newest, epoch = revisions.newest_revision(connection), epochs.epoch_of(connection)
        sources = [(DATABASE, database), (SIGNING_KEY, folder / SIGNING_KEY)]
        # made when a service of today first starts
        sources += [(EVIDENCE_KEY, path) for path in folder.glob(EVIDENCE_KEY)]
        sources += [(f"{ARTEFACTS}/{file.name}", file) for file in _artefacts(folder, Path(made))]
        files = tuple(KeptFile(name, _digest(path), path.stat().st_size) for name, path in sources)
        record = BackupRecord(FORMAT, rfc3339(moment(now)), f"portero {__version__}", newest, epoch, activity, files)
        packed = Path(made) / "packed"
        _pack(record, sources, packed)
        check(packed)
        packed.replace(target)
    return record


def _copy_database(source: Path, target: Path, activity: bool) -> None:
    target.touch(mode=0o600)
    with (
        closing(sqlite3.connect(f"file:{source}?mode=ro", uri=True)) as original,
        closing(sqlite3.connect(target, isolation_level=None)) as copy,
    ):
        original.backup(copy)
        copy.execute("PRAGMA journal_mode = DELETE")
        if not activity:
            for table in ACTIVITY_TABLES:
                copy.execute(f"DELETE FROM {table}")
            copy.execute("VACUUM")


def _artefacts(folder: Path, made: Path) -> Iterator[Path]:
    """The big files beside the database. They never change, but may be dropped meanwhile: each is linked or copied."""
    kept = made / ARTEFACTS
    kept.mkdir()
    for file in sorted((folder / ARTEFACTS).glob("*")):
        if not _NAME.match(f"{ARTEFACTS}/{file.name}"):
            continue
        try:
            _link_or_copy(file, kept / file.name)
        except FileNotFoundError:
            continue
        yield kept / file.name


def _link_or_copy(source: Path, target: Path) -> None:
    try:
        os.link(source, target)
    except FileNotFoundError:
        raise
    except OSError:
        # on another file system
        shutil.copyfile(source, target)


def _pack(record: BackupRecord, sources: list[tuple[str, Path]], target: Path) -> None:
    described = msgspec.json.encode(record)
    with (
        open(os.open(target, os.O_WRONLY | os.O_CREAT, 0o600), "wb") as out,
        zstandard.ZstdCompressor(level=3, write_checksum=True).stream_writer(out, closefd=False) as packed,
        tarfile.open(fileobj=packed, mode="w|", format=tarfile.PAX_FORMAT) as archive,
    ):
        _add(archive, RECORD, len(described), io.BytesIO(described))
        for name, path in sources:
            with path.open("rb") as file:
                _add(archive, name, path.stat().st_size, file)
        archive.close()
        packed.flush(zstandard.FLUSH_FRAME)
        out.flush()
        os.fsync(out.fileno())


def _add(archive: tarfile.TarFile, name: str, size: int, file: BinaryIO) -> None:
    entry = tarfile.TarInfo(name)
    entry.size, entry.mode = size, 0o600
    archive.addfile(entry, file)


# --- looking through one ---


def check(file: Path) -> BackupRecord:
    """Look a backup through: every file by its digest, the database by SQLite itself, the key. BadBackup, OSError."""
    with tempfile.TemporaryDirectory(dir=file.absolute().parent, prefix=".portero-check-") as folder:
        return unpack(file, Path(folder))


def unpack(file: Path, folder: Path) -> BackupRecord:
    """Unpack a backup into an empty folder, looked through as by `check`. BadBackup, OSError."""
    with _entries(file) as entries:
        record = _record(entries)
        expected = {kept.name: kept for kept in record.files}
        for entry, data in entries:
            kept = expected.pop(entry.name, None)
            if kept is None or not _NAME.match(entry.name) or not entry.isreg():
                raise BadBackup(f"it holds “{entry.name[:80]}”, which its record does not name")
            _write(folder / entry.name, data, kept)
    if expected:
        raise BadBackup(f"{', '.join(sorted(expected))[:200]} is missing")
    _check_database(folder / DATABASE)
    for name in (SIGNING_KEY, EVIDENCE_KEY):
        if name in {kept.name for kept in record.files}:
            _check_key(folder / name)
    return record


Entries = Iterator[tuple[tarfile.TarInfo, BinaryIO]]


@contextmanager
def _entries(file: Path) -> Iterator[Entries]:
    """The files of the archive, one after another as they come."""

    def read(archive: tarfile.TarFile) -> Entries:
        for entry in archive:
            data = archive.extractfile(entry)
            yield entry, data if data is not None else io.BytesIO()  # type: ignore[misc]

    try:
        with (
            file.open("rb") as packed,
            zstandard.ZstdDecompressor().stream_reader(packed) as plain,
        ):
            with tarfile.open(fileobj=plain, mode="r|") as archive:
                yield read(archive)
            # to its very end, where the checksum of all of it stands
            while plain.read(_CHUNK):
                continue
    except (tarfile.TarError, zstandard.ZstdError, EOFError) as problem:
        raise BadBackup(f"{file} is no backup, or was cut off: {problem}") from problem


def _record(entries: Entries) -> BackupRecord:
    entry, data = next(entries, (None, io.BytesIO()))
    if entry is None or entry.name != RECORD or entry.size > 10_000_000:
        raise BadBackup("it does not begin with its record")
    try:
        record = msgspec.json.decode(data.read(), type=BackupRecord)
    except msgspec.MsgspecError as problem:
        raise BadBackup(f"its record does not read as one: {problem}") from problem
    if record.portero_backup != FORMAT:
        raise BadBackup(f"it is of format {record.portero_backup}, which this Portero does not know")
    if {DATABASE, SIGNING_KEY} - {kept.name for kept in record.files}:
        raise BadBackup("it lacks the database or the signing key")
    if sum(kept.bytes for kept in record.files) > MOST_BYTES:
        raise BadBackup(f"it says that it holds more than {MOST_BYTES // 10**9} GB")
    return record


def _write(path: Path, data: BinaryIO, kept: KeptFile) -> None:
    make_owned(path.parent)
    seen, written = hashlib.sha256(), 0
    with open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as out:
        while chunk := data.read(_CHUNK):
            written += len(chunk)
            seen.update(chunk)
            out.write(chunk)
        out.flush()
        os.fsync(out.fileno())
    if written != kept.bytes or kept.digest != f"sha256:{seen.hexdigest()}":
        raise BadBackup(f"{kept.name} in it is damaged: its digest differs")


def _check_database(path: Path) -> None:
    try:
        with closing(sqlite3.connect(path)) as connection:
            found = connection.execute("PRAGMA integrity_check(1)").fetchone()[0]
            strays = connection.execute("PRAGMA foreign_key_check").fetchone()
    except sqlite3.DatabaseError as problem:
        raise BadBackup(f"its database cannot be read: {problem}") from problem
    if found != "ok" or strays is not None:
        raise BadBackup(f"its database is damaged: {found}")


def _check_key(path: Path) -> None:
    try:
        load_pem_private_key(path.read_bytes(), password=None)
    except (ValueError, TypeError) as problem:
        raise BadBackup(f"its signing key cannot be read: {problem}") from problem


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return digest_of_file(file)


# --- putting one back ---


def restore(file: Path, folder: Path, now: float, *, replace: bool = False) -> tuple[BackupRecord, Path | None]:
    """Put a backup into a data folder on which no service works, and begin another epoch, so that devices take what
    this one says whatever they hold.

    What is there is not touched unless `replace` says so; it is then moved into a folder beside, whose path is
    returned. BadBackup, FileExistsError, OSError: the folder is as it was.
    """
    try:
        held = DataFolder(folder, fresh=False)
    except StoreProblem as problem:
        raise BadBackup(str(problem)) from problem
    try:
        if (folder / DATABASE).exists() and not replace:
            raise FileExistsError(
                f"{folder} holds data of a service; name another folder, or replace it with --replace"
            )
        with tempfile.TemporaryDirectory(dir=folder, prefix=".restoring-") as unpacked:
            record = unpack(file, Path(unpacked))
            # opened as a store: what an earlier Portero backed up is brought to today's schema
            store = Store(Path(unpacked) / DATABASE)
            with store.writing() as connection:
                epochs.begin_epoch(connection, _epoch_after(connection, folder / DATABASE, now))
                # sessions that ended since then would open again
                connection.execute("DELETE FROM session")
                told = f"revision {record.revision} as of {record.made_at}"
                audit.append(connection, "restoreBackup", now, means="machine", detail=told)
            store.close()
            aside = _put_aside(folder, now)
            for name in (ARTEFACTS, SIGNING_KEY, EVIDENCE_KEY, DATABASE):
                if (Path(unpacked) / name).exists():
                    (Path(unpacked) / name).replace(folder / name)
        return record, aside
    finally:
        held.close()


def _epoch_after(restored: sqlite3.Connection, replaced: Path, now: float) -> int:
    """An epoch later than that of the backup, and than that of what it replaces, where that can be read."""
    epoch = epochs.next_epoch(restored, now)
    try:
        with closing(sqlite3.connect(f"file:{replaced}?mode=ro", uri=True)) as connection:
            return max(epoch, epochs.next_epoch(connection, now))
    except sqlite3.DatabaseError:
        return epoch


def _put_aside(folder: Path, now: float) -> Path | None:
    names = (f"{DATABASE}*", SIGNING_KEY, EVIDENCE_KEY, ARTEFACTS)
    there = [path for name in names for path in folder.glob(name)]
    if not there:
        return None
    aside = folder / f"replaced-{moment(now):%Y-%m-%dT%H%M%S}"
    make_owned(aside)
    for path in there:
        path.replace(aside / path.name)
    return aside
