"""Work in the background, one thing after another, which never keeps the service from ending."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import Future
from queue import SimpleQueue


class Background:
    """A thread of its own. When the process ends it ends too, wherever it is: what it does may be cut off anywhere."""

    def __init__(self, name: str) -> None:
        self._queue: SimpleQueue[tuple[Callable[[], None], Future[None]] | None] = SimpleQueue()
        self._closed = False
        self._thread = threading.Thread(target=self._work, name=name, daemon=True)
        self._thread.start()

    def submit(self, work: Callable[[], None]) -> Future[None]:
        """Do something when all before it is done."""
        done: Future[None] = Future()
        self._queue.put((work, done))
        return done

    def close(self, seconds: float = 2.0) -> None:
        """Let nothing more begin, and give what is being done so long to come to its end."""
        self._closed = True
        self._queue.put(None)
        self._thread.join(seconds)

    def _work(self) -> None:
        while (task := self._queue.get()) is not None:
            work, done = task
            if self._closed or not done.set_running_or_notify_cancel():
                done.cancel()
                continue
            try:
                work()
            except BaseException as problem:
                done.set_exception(problem)
            else:
                done.set_result(None)
