"""Starts of programs that are only being tried, so that what the guard tells of them is taken for nobody's."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass, field

from portero.core.nouns.action import Verdict

TELLS_SECONDS = 3.0
"""So long it may take until the guard tells of a start."""

RULES_SECONDS = 5.0
"""And so long until it rules by what the endpoint has just applied."""


@dataclass
class Trial:
    """A start that is being tried, by path and person."""

    path: str
    user: str
    told: threading.Event = field(default_factory=threading.Event)
    verdict: Verdict | None = None
    until: float = 0.0


class Trials:
    """The starts that are being tried now. What the guard tells of them is no start of anybody's."""

    def __init__(self) -> None:
        self._lock = threading.Condition()
        self._open: list[Trial] = []
        self._manifest: str | None = None

    def ruled_by(self, manifest: str) -> None:
        """The guard tells the name of the manifest by which it rules now."""
        with self._lock:
            self._manifest = manifest
            self._lock.notify_all()

    def await_rules(self, manifest: str) -> None:
        """Wait until the guard rules by a manifest; where none tells of its rules, not at all."""
        with self._lock:
            self._lock.wait_for(lambda: self._manifest in (None, manifest), RULES_SECONDS)

    def begin(self, path: str, user: str) -> Trial:
        """One is about to be tried."""
        trial = Trial(path, user, until=time.monotonic() + 10 * TELLS_SECONDS)
        with self._lock:
            self._open = [one for one in self._open if one.until > time.monotonic()]
            self._open.append(trial)
        return trial

    def take(self, path: str | None, user: str | None, verdict: Verdict, starts: int = 1) -> int:
        """The guard tells of starts of a program by somebody: how many of them are nobody's."""
        taken = 0
        with self._lock:
            for trial in [one for one in self._open if (one.path, one.user) == (path, user)][:starts]:
                self._open.remove(trial)
                trial.verdict = verdict
                trial.told.set()
                taken += 1
        return taken
