"""The endpoint's own policy file of one browser: written whole, looked at, put right; and the files of others."""

from __future__ import annotations

import json
import os
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import msgspec

from portero.core import sentences
from portero.core.digests import digest_of
from portero.core.nouns.browser_policy import PolicyFileState, TamperingKind
from portero.core.nouns.coverage import BrowserFamily
from portero.endpoint.folder import told_of
from portero.formats.owned_files import replace_whole

MODE = 0o644
MOST_MENDED, WITHIN_SECONDS = 4, 60.0
"""Put right more often than so within so many seconds, a file is contested,"""
FIRST_PAUSE, LONGEST_PAUSE = 15.0, 600.0
"""and is left alone for longer and longer in between."""
TOLD_SECONDS = 86_400.0
"""How long it is told that somebody was at a file."""
SETTLING_SECONDS = 6.0
"""A Chromium that started so shortly before the file changed may not notice: the change is made again after that."""
MOST_BYTES = 4_000_000
"""So much of a file is looked at."""


class Kept(msgspec.Struct, frozen=True):
    """What the endpoint remembers of a policy file of its own."""

    digest: str
    written_at: float
    tampered_at: float | None = None
    tampered: TamperingKind | None = None


class Noticed(NamedTuple):
    """Something that happened to a policy file, in words for the machine's own log."""

    what: str
    text: str


class OwnFile:
    """The policy file of one browser."""

    def __init__(self, family: BrowserFamily, path: Path, kept: Kept | None) -> None:
        """`kept` is what was remembered of it; None where the endpoint never wrote it."""
        self.family, self.path, self.kept = family, path, kept
        self.problem: str | None = None
        self._foreign = False
        self._mended: list[float] = []
        self._pause, self._again_at = 0.0, 0.0

    @property
    def state(self) -> PolicyFileState:
        """How it stands, as it was found last."""
        if self._foreign:
            return PolicyFileState.FOREIGN
        if self.problem:
            return PolicyFileState.UNWRITTEN
        return PolicyFileState.CONTESTED if self._pause else PolicyFileState.KEPT

    def keep(self, wanted: bytes | None, now: float, started: list[float]) -> list[Noticed]:
        """See that the file is what it should be (None: not there). `started` is when the browsers that run were."""
        try:
            return [*self._keep(wanted, now), *self._settle(wanted, now, started)]
        except OSError as problem:
            told, before = told_of(problem), self.problem
            self.problem = told
            return [] if told == before else [Noticed("unwritten", f"{self.path} could not be written: {told}")]

    def _keep(self, wanted: bytes | None, now: float) -> Iterator[Noticed]:
        found = self._found()
        is_others = found is not None and self.kept is None and not _is_by_name_own(self.path) and found != wanted
        # where there is no list nobody is in its way
        self._foreign = is_others and wanted is not None
        if is_others:
            self.problem = None
            return
        tampered = self._tampering(found)
        if tampered is not None and self.kept is not None:
            if now < self._again_at:
                return
            self._count(now)
            self.kept = msgspec.structs.replace(self.kept, tampered=tampered, tampered_at=now)
            yield Noticed("tampered", f"{self.path} was {sentences.tampered_how(tampered)}; it is put right")
        elif self._pause and now - self._mended[-1] > max(WITHIN_SECONDS, self._pause):
            self._pause, self._mended = 0.0, []
        if tampered is not None or found != wanted or (wanted is not None and self.kept is None):
            yield from self._put(wanted, now)
        self.problem = None

    def _put(self, wanted: bytes | None, now: float) -> Iterator[Noticed]:
        if wanted is None:
            self.path.unlink(missing_ok=True)
            self.kept = None
            yield Noticed("removed", f"{self.path} was removed: no list of sites is in force for {self.family} here")
            return
        self.path.parent.mkdir(parents=True, exist_ok=True, mode=0o755)
        replace_whole(self.path, wanted, MODE)
        if self.kept is None or self.kept.digest != digest_of(wanted):
            yield Noticed("written", f"{self.path} was written: {self.family} has another list of sites")
        kept = self.kept or Kept("", 0)
        self.kept = Kept(digest_of(wanted), now, kept.tampered_at, kept.tampered)

    def _settle(self, wanted: bytes | None, now: float, started: list[float]) -> Iterator[Noticed]:
        """Make a change again that a Chromium which had just started did not notice."""
        if self.kept is None or wanted is None or self.family != "chromium" or self.state is not PolicyFileState.KEPT:
            return
        before = self.kept.written_at
        if any(start <= before + 1 and before - start < SETTLING_SECONDS < now - start for start in started):
            yield from self._put(wanted, now)

    def _found(self) -> bytes | None:
        try:
            return _read(self.path)
        except FileNotFoundError:
            return None

    def _tampering(self, found: bytes | None) -> TamperingKind | None:
        """What somebody did to the file since it was written here."""
        if self.kept is None:
            return None
        if found is None:
            return TamperingKind.REMOVED
        if digest_of(found) != self.kept.digest:
            return TamperingKind.EDITED
        return TamperingKind.CLOSED if stat.S_IMODE(self.path.stat().st_mode) != MODE else None

    def _count(self, now: float) -> None:
        """One more time that it is put right: too often, and it is left alone for a while."""
        self._mended = [at for at in self._mended if now - at < WITHIN_SECONDS] + [now]
        if self._pause or len(self._mended) > MOST_MENDED:
            self._pause = min(self._pause * 2 or FIRST_PAUSE, LONGEST_PAUSE)
            self._again_at = now + self._pause

    def restart_needed(self, started: list[float]) -> bool:
        """Whether a browser runs that has not read it. A Chromium reads what changes by itself."""
        if self.kept is None or self.family == "chromium":
            return False
        return any(start < self.kept.written_at - 1 for start in started)


def remove_own(path: Path, kept: Kept) -> bool:
    """Remove a policy file that is as the endpoint wrote it; whether it was. OSError."""
    own = path.exists() and digest_of(_read(path)) == kept.digest
    if own:
        path.unlink()
    return own


def _is_by_name_own(path: Path) -> bool:
    """Whether nobody else would name a file so: it is taken for one of the endpoint's own, of an earlier life."""
    return path.stem == "portero"


# --- the files of others ---


class Others(NamedTuple):
    """Files of others that set the keys of a browser's list: those that count before the endpoint's own, and not."""

    counting: tuple[str, ...] = ()
    beside: tuple[str, ...] = ()


_KEYS = frozenset(("URLBlocklist", "URLAllowlist"))
_MERGING = "PolicyListMultipleSourceMergeList"
_MOST_TOLD = 20


def others_of(family: BrowserFamily, own: Path, program: Path) -> Others:
    """What other files say of the lists of a browser whose own file is there.

    Chromium reads every file of the folder; of those that set a key the last one by name counts, unless one of them
    has it merge them; those of `recommended` count where no other does. Firefox reads one file, and that of its own
    folder only where there is no other.
    """
    if family == "firefox":
        found = _settings(program.resolve().parent / "distribution" / "policies.json")
        policies = found.get("policies")
        is_set = isinstance(policies, dict) and "WebsiteFilter" in policies
        return Others(beside=(str(program.resolve().parent / "distribution" / "policies.json"),) if is_set else ())
    files = {path: _settings(path) for path in _files(own.parent) if path.name != own.name}
    merges = any(_KEYS & set(map(str, _listed(found.get(_MERGING)))) for found in files.values())
    counting = [path for path, found in files.items() if _KEYS & set(found) and (merges or path.name > own.name)]
    beside = [path for path, found in files.items() if _KEYS & set(found) and path not in counting]
    beside += [path for path in _files(own.parent.parent / "recommended") if _KEYS & set(_settings(path))]
    return Others(tuple(map(str, counting))[:_MOST_TOLD], tuple(map(str, beside))[:_MOST_TOLD])


def _files(folder: Path) -> list[Path]:
    try:
        return sorted(path for path in folder.iterdir() if path.is_file())[:1000]
    except OSError:
        return []


def _listed(value: object) -> list[object]:
    return value if isinstance(value, list) else []


def _read(path: Path) -> bytes:
    """The beginning of a file; nothing of what is none, and of what would keep its reader waiting. OSError."""
    descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    with os.fdopen(descriptor, "rb") as file:
        return file.read(MOST_BYTES) if stat.S_ISREG(os.fstat(descriptor).st_mode) else b""


def _settings(path: Path) -> dict[str, object]:
    """The settings of a policy file; nothing of one that the browser cannot read either."""
    try:
        found = json.loads(_read(path))
    except (OSError, ValueError, RecursionError):
        return {}
    return found if isinstance(found, dict) else {}
