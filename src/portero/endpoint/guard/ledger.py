"""What a guard and its watcher know of each other: a few numbers in memory that both see."""

from __future__ import annotations

import mmap
import time

_BEGAN, _BEAT, _WAITING, _READY, _REFUSES = range(5)


class Ledger:
    """Made before the guard is forked off. Moments are seconds of the machine's monotonic clock; 0 is none."""

    def __init__(self) -> None:
        self._values = memoryview(mmap.mmap(-1, mmap.PAGESIZE)).cast("d")

    def begin(self) -> None:
        """Another guard begins: it has said nothing yet."""
        self._values[_READY] = self._values[_WAITING] = 0.0
        self._values[_BEGAN] = time.monotonic()
        self.beat()

    def beat(self) -> None:
        """The guard goes round."""
        self._values[_BEAT] = time.monotonic()

    def waits_since(self, moment: float) -> None:
        """The longest that a start waits for the guard's answer; 0 for none."""
        self._values[_WAITING] = moment

    def is_ready(self, refuses: bool) -> None:
        """The guard answers from now on; whether what is undecided is to be refused."""
        self._values[_REFUSES], self._values[_READY] = float(refuses), 1.0

    @property
    def ready(self) -> bool:
        """Whether the guard answers."""
        return bool(self._values[_READY])

    @property
    def refuses(self) -> bool:
        """Whether a start that is not decided in time is refused."""
        return bool(self._values[_REFUSES])

    def begun_for(self, now: float) -> float:
        """So many seconds ago the guard began."""
        return now - self._values[_BEGAN]

    def silent_for(self, now: float) -> float:
        """So many seconds the guard has not gone round."""
        return now - self._values[_BEAT]

    def waiting_for(self, now: float) -> float:
        """So many seconds the start has waited that has waited longest; 0 where none does."""
        since = self._values[_WAITING]
        return now - since if since else 0.0
