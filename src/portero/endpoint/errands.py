"""Errands: what the service asks of this machine now, done with its real browser and told."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any

from portero.core.nouns.errand import ErrandAnswer, OpenedPage
from portero.core.nouns.urls import BadUrl, parse_visit
from portero.endpoint.agent import Agent
from portero.endpoint.browsers.driving import BrowserFailed
from portero.endpoint.browsers.visiting import look_really
from portero.endpoint.calls import NotTaken, ServiceRefused, ServiceUnreachable

Does = Callable[[dict[str, Any]], OpenedPage]
"""Does an errand as the service gives it. Errand fails with its message."""


class ErrandRefused(RuntimeError):
    """This machine does not do it; the message says why."""


def with_real_browser(proxy: int) -> Does:
    """Opens pages in this machine's browsers, through its filter."""

    def do(errand: dict[str, Any]) -> OpenedPage:
        return look_really(parse_visit(errand["url"]).url, errand.get("browser"), proxy)

    return do


def refusing(why: str) -> Does:
    """Does nothing, and says why."""

    def do(_errand: dict[str, Any]) -> OpenedPage:
        raise ErrandRefused(why)

    return do


async def keep_errands(agent: Agent, do: Does) -> None:
    """Do what the service asks, one errand after another, for ever. Ends when refused."""
    while True:
        await agent.errands.wait()
        agent.errands.clear()
        try:
            for errand in (await agent.call("GET", "errands")).json():
                answer = await asyncio.to_thread(_answer, do, errand)
                told = answer.model_dump(mode="json", exclude_none=True)
                await agent.call("POST", f"errands/{errand['id']}", json=told)
        except (ServiceUnreachable, NotTaken):
            # whoever asked sees that nothing came, and asks again
            continue
        except ServiceRefused:
            return


def _answer(do: Does, errand: dict[str, Any]) -> ErrandAnswer:
    try:
        return ErrandAnswer(page=do(errand))
    except (ErrandRefused, BrowserFailed, BadUrl, OSError) as problem:
        return ErrandAnswer(problem=str(problem)[:500] or type(problem).__name__)
