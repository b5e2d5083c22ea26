"""Work in the background, which never keeps the service from ending."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from concurrent.futures import Future
from queue import SimpleQueue


class Background:
    """Threads that end with the process, wherever they are: what they do may be cut off anywhere."""

    def __init__(self, name: str, threads: int = 1) -> None:
        self._queue: SimpleQueue[tuple[Callable[[], None], Future[None]] | None] = SimpleQueue()
        self._closed = False
        self._threads = [threading.Thread(target=self._work, name=name, daemon=True) for _ in range(threads)]
        for thread in self._threads:
            thread.start()

    def submit(self, work: Callable[[], None]) -> Future[None]:
        """Do something when a thread is free; what was submitted first begins first."""
        done: Future[None] = Future()
        self._queue.put((work, done))
        return done

    def close(self, seconds: float = 2.0) -> None:
        """Let nothing more begin, and give what is being done so long to come to its end."""
        self._closed = True
        for _ in self._threads:
            self._queue.put(None)
        until = time.monotonic() + seconds
        for thread in self._threads:
            thread.join(max(0.0, until - time.monotonic()))

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
