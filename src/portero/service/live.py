"""What happens is told to those who wait: open pages (by subject), and devices (by class)."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Collection, Iterator
from contextlib import contextmanager
from typing import Literal, TypeVar

Argument = TypeVar("Argument")
Subject = Literal["revision", "device", "activity", "finding", "feed"]
"""Something that can change, for those who look at it."""


class Live:
    """Wakes waiters from any thread. It keeps no queue of events: a slow page learns what changed, told once."""

    def __init__(self) -> None:
        self._loop: asyncio.AbstractEventLoop | None = None
        self._pages: dict[asyncio.Event, set[str]] = {}
        self._devices: dict[asyncio.Event, int] = {}
        self.closing = False

    def start(self, loop: asyncio.AbstractEventLoop) -> None:
        """Waiters live on this loop."""
        self._loop = loop

    def close(self) -> None:
        """Let everyone who waits go, so that the service can stop."""
        self.closing = True
        for event in (*self._pages, *self._devices):
            event.set()

    def tell(self, *subjects: Subject) -> None:
        """Something about these subjects has changed. Safe from any thread."""
        self._soon(self._tell, subjects)

    def wake(self, classes: Collection[int]) -> None:
        """Devices of these classes have a new bundle. Safe from any thread."""
        self._soon(self._wake, frozenset(classes))

    def _soon(self, call: Callable[[Argument], None], argument: Argument) -> None:
        if self._loop is not None and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(call, argument)

    def _tell(self, subjects: tuple[str, ...]) -> None:
        for event, pending in self._pages.items():
            pending.update(subjects)
            event.set()

    def _wake(self, classes: frozenset[int]) -> None:
        for event, class_id in self._devices.items():
            if class_id in classes:
                event.set()

    @contextmanager
    def device_waits(self, class_id: int) -> Iterator[asyncio.Event]:
        """An event that is set when the class gets a new bundle."""
        event = asyncio.Event()
        self._devices[event] = class_id
        try:
            yield event
        finally:
            del self._devices[event]

    async def changes(self, pause: float = 0.25) -> AsyncIterator[list[str]]:
        """The subjects that changed, again and again; at most one list every `pause` seconds.

        The first list is empty and comes at once: of what changes after it, nothing is missed.
        """
        event, pending = asyncio.Event(), set[str]()
        self._pages[event] = pending
        try:
            yield []
            while not self.closing:
                await event.wait()
                event.clear()
                subjects = sorted(pending)
                pending.clear()
                if subjects:
                    yield subjects
                await asyncio.sleep(pause)
        finally:
            del self._pages[event]
