"""What happens is told to those who wait: open pages (by subject), and devices (by class)."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable, Collection, Iterable, Iterator
from contextlib import contextmanager, suppress
from typing import Literal, TypeVar

Argument = TypeVar("Argument")
Subject = Literal["revision", "device", "activity", "finding", "feed", "push", "errand", "run"]
"""Something that can change, for those who look at it."""


MOST_OF_DEVICE, MOST_OF_PAGE = 4, 20
"""So many requests may be held for one device, and for one session or token."""
WOKEN_A_SECOND = 1_000
"""Where more devices are woken at once, they are asked to take their time: so many a second."""
LOOK_SECONDS = 3.0
"""How often a stream that is open looks whether its reader may still read it."""


class News:
    """Something that a device waits for. There may be a hundred thousand of them: each is no more than a future."""

    __slots__ = ("_told", "spread")

    def __init__(self) -> None:
        self._told: asyncio.Future[bool] = asyncio.get_running_loop().create_future()
        self.spread = 0.0
        """Within how many seconds all that were woken with it are to come, each at a time of its own."""

    def set(self) -> None:
        """It is there."""
        if not self._told.done():
            self._told.set_result(True)

    async def within(self, seconds: float) -> bool:
        """Whether it comes in so many seconds."""
        late = self._told.get_loop().call_later(seconds, self._give_up)
        try:
            return await self._told
        finally:
            late.cancel()

    def _give_up(self) -> None:
        if not self._told.done():
            self._told.set_result(False)


class Live:
    """Wakes waiters from any thread. It keeps no queue of events: a slow page learns what changed, told once."""

    def __init__(self) -> None:
        self._loop: asyncio.AbstractEventLoop | None = None
        self._pages: dict[asyncio.Event, set[str]] = {}
        self._devices: dict[int, set[News]] = {}
        """Those of devices, by class."""
        self._held_by: dict[str, list[asyncio.Event | News]] = {}
        """Those who wait, by their credential; the one that has waited longest first."""
        self.closing = False

    @property
    def held(self) -> int:
        """How many requests wait for news."""
        return len(self._pages) + sum(map(len, self._devices.values()))

    @contextmanager
    def _holding(self, credential: str, event: asyncio.Event | News, most: int) -> Iterator[None]:
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
        for event in self._pages:
            event.set()
        for waiting in self._devices.values():
            for news in waiting:
                news.set()

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
        woken = [self._devices[class_id] for class_id in classes & self._devices.keys()]
        spread = sum(map(len, woken)) / WOKEN_A_SECOND
        for waiting in woken:
            for news in waiting:
                news.spread = spread
                news.set()

    @contextmanager
    def device_waits(self, device: str, class_id: int) -> Iterator[News]:
        """What is set when the class gets a new bundle, or the device holds too many requests."""
        news, waiting = News(), self._devices.setdefault(class_id, set())
        waiting.add(news)
        try:
            with self._holding(device, news, MOST_OF_DEVICE):
                yield news
        finally:
            waiting.discard(news)
            if not waiting and self._devices.get(class_id) is waiting:
                del self._devices[class_id]

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
