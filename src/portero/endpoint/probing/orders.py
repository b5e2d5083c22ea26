"""Probes that the service asks this machine to try: an order is taken, tried and answered, one after the other.

What is tried is recorded nowhere here and reported by nothing but the answer, which carries the number that the service
gave; so nothing else can be called a probe.
"""

from __future__ import annotations

import asyncio
from collections.abc import Iterator, Sequence
from typing import Protocol

from pydantic import ValidationError

from portero.core.nouns.observation import OrderedProbe, ProbeOrder, ProbesSeen, Seen
from portero.endpoint.agent import Agent
from portero.endpoint.calls import NotTaken, ServiceRefused, ServiceUnreachable

MOST_PICTURES = 3_000_000
"""So many letters the pictures of an answer may have, all together."""


class Tries(Protocol):
    """Tries probes, and says what was seen of each; with pictures of pages where they are asked for."""

    async def __call__(self, probes: Sequence[OrderedProbe], *, pictures: bool) -> list[Seen]: ...


def refusing(why: str) -> Tries:
    """Tries nothing, and says why."""

    async def tries(probes: Sequence[OrderedProbe], *, pictures: bool) -> list[Seen]:
        return [not_tried(one, why) for one in probes]

    return tries


def not_tried(one: OrderedProbe, why: str) -> Seen:
    """A probe that was not tried here, and why."""
    return Seen(number=one.number, problem=why[:500])


async def keep_probing(agent: Agent, tries: Tries) -> None:
    """Try what the service asks, for ever. Ends when refused."""
    while True:
        await agent.probes.wait()
        agent.probes.clear()
        try:
            for told in (await agent.call("GET", "probes")).json():
                await _carry_out(agent, tries, told)
        except (ServiceUnreachable, NotTaken):
            # whoever asked sees that nothing came
            continue
        except ServiceRefused:
            return


async def _carry_out(agent: Agent, tries: Tries, told: object) -> None:
    try:
        order = ProbeOrder.model_validate(told)
    except ValidationError:
        # of a newer service: it hears no answer, and all else goes on
        return
    await agent.know([one.user for one in order.probes])
    # what it rules by as it begins is what it is judged by
    bundle = agent.manifest.bundle if agent.manifest else None
    try:
        seen = await asyncio.wait_for(tries(order.probes, pictures=order.pictures), max(order.seconds, 1.0))
    except Exception as problem:
        why = "it takes too long" if isinstance(problem, TimeoutError) else str(problem) or type(problem).__name__
        seen = [not_tried(one, f"It could not be tried: {why}") for one in order.probes]
    answer = ProbesSeen(once=order.once, bundle=bundle, seen=tuple(_within_bounds(seen)))
    await agent.call("POST", "probes", json=answer.model_dump(mode="json", exclude_none=True))


def _within_bounds(seen: Sequence[Seen]) -> Iterator[Seen]:
    """What was seen, with as many pictures as an answer may carry."""
    left = MOST_PICTURES
    for one in seen:
        left -= len(one.picture or "")
        yield one if left >= 0 else one.model_copy(update={"picture": None})
