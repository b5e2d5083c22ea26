"""A service's data folder: held by one process at a time, and read by its owner only."""

from __future__ import annotations

import fcntl
import os
from pathlib import Path

from portero.formats.owned_files import make_owned
from portero.store.database import StoreProblem

DATABASE = "portero.sqlite3"
ARTEFACTS = "artefacts"
SIGNING_KEY = "signing-key.pem"
EVIDENCE_KEY = "evidence-key.pem"
_LOCK = "service.lock"
_OTHERS = 0o077


class FolderInUse(StoreProblem):
    """Another process works on the folder; the message names it."""


class DataFolder:
    """The folder, held until it is closed or the process ends, however it ends."""

    def __init__(self, path: Path, fresh: bool = True) -> None:
        """Make the folder where there is none, and take hold of it; where it is `fresh`, with an empty database.

        FolderInUse; StoreProblem where files in it are not this user's to keep from others.
        """
        self.path = path
        make_owned(path)
        self._lock = os.open(path / _LOCK, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            self._hold()
            if fresh and not self.database.exists():
                self.database.touch(mode=0o600)
            self._keep_from_others()
        except BaseException:
            self.close()
            raise

    @property
    def database(self) -> Path:
        """Where the store is."""
        return self.path / DATABASE

    def _hold(self) -> None:
        try:
            # held by the open file, not by what is written in it: a killed service leaves nothing to clean up
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            holder = os.pread(self._lock, 20, 0).decode(errors="replace").strip() or "unknown"
            raise FolderInUse(
                f"{self.path} is in use by the service that runs as process {holder}; stop that one first, or name"
                " another folder with --data"
            ) from None
        os.ftruncate(self._lock, 0)
        os.pwrite(self._lock, f"{os.getpid()}\n".encode(), 0)

    def _keep_from_others(self) -> None:
        """What is there of the store is its owner's alone; SQLite makes its other files like the first."""
        for file in (*self.path.glob(f"{DATABASE}*"), *self.path.glob(SIGNING_KEY), *self.path.glob(ARTEFACTS)):
            try:
                if (mode := file.stat().st_mode) & _OTHERS:
                    file.chmod(mode & 0o700)
            except PermissionError as problem:
                raise StoreProblem(
                    f"{file} can be read by others, and is not this user's to change: give the folder to the user"
                    " who runs the service (chown -R)"
                ) from problem

    def close(self) -> None:
        """Let go of the folder."""
        if self._lock >= 0:
            os.close(self._lock)
            self._lock = -1
