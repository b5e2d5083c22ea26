"""A word to whoever sits at the machine: a desktop notification, where there is a desktop.

Follows the Desktop Notifications Specification (org.freedesktop.Notifications), over the session bus.
"""

from __future__ import annotations

import asyncio
import os
from contextlib import suppress

from dbus_fast.aio import MessageBus
from dbus_fast.errors import DBusError
from dbus_fast.message import Message

_BUS = "DBUS_SESSION_BUS_ADDRESS"
_SECONDS = 3.0
_SHOWN_MS = 8_000


async def show(text: str, title: str = "What opens here has changed") -> bool:
    """Show a notification; whether there is a desktop that took it. Nothing waits for it longer than seconds."""
    if not os.environ.get(_BUS):
        return False
    with suppress(OSError, EOFError, DBusError, TimeoutError, ValueError):
        async with asyncio.timeout(_SECONDS):
            return await _notify(title, text)
    return False


async def _notify(title: str, text: str) -> bool:
    bus = await MessageBus().connect()
    try:
        answer = await bus.call(
            Message(
                destination="org.freedesktop.Notifications",
                path="/org/freedesktop/Notifications",
                interface="org.freedesktop.Notifications",
                member="Notify",
                signature="susssasa{sv}i",
                body=["Portero", 0, "", title, text, [], {}, _SHOWN_MS],
            )
        )
    finally:
        bus.disconnect()
    return answer is not None and answer.error_name is None
