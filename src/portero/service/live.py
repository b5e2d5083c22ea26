"""What happens is told to those who wait: open pages (by subject), and devices (by class)."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable, Collection, Iterable, Iterator
from contextlib import contextmanager, suppress
from typing import Literal, TypeVar

Argument = TypeVar("Argument")
Subject = Literal["revision", "device", "activity", "finding", "feed", "push", "errand"]
"""Something that can change, for those who look at it."""


MOST_OF_DEVICE, MOST_OF_PAGE = 4, 20
"""So many requests may be held for one device, and for one session or token."""
LOOK_SECONDS = 3.0
"""How often a stream that is open looks whether its reader may still read it."""


class Live:
    """Wakes waiters from any thread. It keeps no queue of events: a slow page learns what changed, told once."""

    def __init__(self) -> None:
        self._loop: asyncio.AbstractEventLoop | None = None
        self._pages: dict[asyncio.Event, set[str]] = {}
        self._devices: dict[asyncio.Event, int] = {}
        self._held_by: dict[str, list[asyncio.Event]] = {}
        """Those who wait, by their credential; the one that has waited longest first."""
        self.closing = False

    @property
    def held(self) -> int:
        """How many requests wait for news."""
        return len(self._pages) + len(self._devices)

    @contextmanager
    def _holding(self, credential: str, event: asyncio.Event, most: int) -> Iterator[None]:
        """One more request of a credential is held; where these are too many, the oldest of them is let go."""
        mine = self._held_by.setdefault(credential, [])
        mine.append(event)
        if len(mine) > most:
            mine.pop(0).set()
        try:
            yield
        finally:
            if event in mine:
                mine.remove(event)
            if not mine and self._held_by.get(credential) is mine:
                del self._held_by[credential]

    def _is_held(self, credential: str, event: asyncio.Event) -> bool:
        return event in self._held_by.get(credential, ())

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

    def wake_devices(self, devices: Iterable[str]) -> list[str]:
        """Wake single devices; which of them hold a request just now. Safe from any thread."""
        held = [device for device in devices if device in self._held_by]
        self._soon(self._wake_held, held)
        return held

    def _wake_held(self, devices: list[str]) -> None:
        for device in devices:
            for event in self._held_by.get(device, ()):
                event.set()

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
    def device_waits(self, device: str, class_id: int) -> Iterator[asyncio.Event]:
        """An event that is set when the class gets a new bundle, or the device holds too many requests."""
        event = asyncio.Event()
        self._devices[event] = class_id
        try:
            with self._holding(device, event, MOST_OF_DEVICE):
                yield event
        finally:
            del self._devices[event]

    async def changes(
        self, credential: str, still: Callable[[], Awaitable[bool]], pause: float = 0.25
    ) -> AsyncIterator[list[str]]:
        """The subjects that changed, again and again; at most one list every `pause` seconds. It ends with what lets
        it be read (`still`, looked at every few seconds), and where the credential holds too many.

        The first list is empty and comes at once: of what changes after it, nothing is missed.
        """
        event, pending, loop = asyncio.Event(), set[str](), asyncio.get_running_loop()
        self._pages[event] = pending
        try:
            with self._holding(credential, event, MOST_OF_PAGE):
                yield []
                looked = loop.time()
                while not self.closing and self._is_held(credential, event):
                    with suppress(TimeoutError):
                        await asyncio.wait_for(event.wait(), LOOK_SECONDS)
                    event.clear()
                    if loop.time() - looked >= LOOK_SECONDS - 1:
                        if not await still():
                            return
                        looked = loop.time()
                    subjects = sorted(pending)
                    pending.clear()
                    if subjects:
                        yield subjects
                    await asyncio.sleep(pause)
        finally:
            del self._pages[event]
