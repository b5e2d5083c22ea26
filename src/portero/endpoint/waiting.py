"""The request that an endpoint has held by the service until there is news: as long as what is between them lets it."""

from __future__ import annotations

import asyncio
import random
import time
from collections.abc import Awaitable, Callable, Mapping
from contextlib import suppress

import httpx

from portero.endpoint.calls import ServiceUnreachable

FIRST_HOLD, LEAST_HOLD = 55.0, 5.0
MOST_SPREAD = 60.0


class Hold:
    """How long a request is held: a proxy that cuts it off has it asked for less."""

    def __init__(self) -> None:
        self.seconds = FIRST_HOLD

    async def wait(self, call: Callable[..., Awaitable[httpx.Response]], held: Mapping[str, str]) -> bool:
        """Wait until the service has something (True), or for a while (False). NotTaken, ServiceRefused,
        ServiceUnreachable.
        """
        # with jitter, so that machines that began together do not come together
        hold, began = self.seconds * random.uniform(0.85, 1.0), time.monotonic()
        try:
            answer = await call("GET", "wait", params={**held, "hold": f"{hold:.1f}"}, timeout=hold + 15.0)
        except ServiceUnreachable:
            lasted = time.monotonic() - began
            if lasted < LEAST_HOLD:
                raise
            self.seconds = max(LEAST_HOLD, min(lasted, hold) * 0.8)
            return False
        if answer.status_code != 200:
            self.seconds = min(FIRST_HOLD, self.seconds * 1.05)
            return False
        spread = 0.0
        with suppress(ValueError, TypeError, AttributeError):
            spread = float(answer.json().get("spread", 0.0))
        # where many are woken at once, each comes at a time of its own
        await asyncio.sleep(random.uniform(0.0, min(max(spread, 0.0), MOST_SPREAD)))
        return True
