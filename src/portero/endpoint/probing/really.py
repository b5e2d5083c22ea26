"""Trying probes really: visits in this machine's browsers under their own managed policy and through its own filter,
starts under its guard. Nothing from outside is loaded, and no program runs.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Iterable, Sequence
from itertools import groupby
from pathlib import Path
from typing import NamedTuple

from portero.core.nouns.action import Verdict
from portero.core.nouns.layer import Layer
from portero.core.nouns.observation import MOST_PICTURE, OrderedProbe, Seen, Sight
from portero.core.nouns.probe_set import ReachedBy
from portero.core.nouns.urls import BadUrl, parse_visit
from portero.endpoint.agent import Agent
from portero.endpoint.browsers.driving import Arrived, BrowserFailed, Driven
from portero.endpoint.browsers.installed import Installed, installed_browsers
from portero.endpoint.browsers.visiting import driven, outcome_of
from portero.endpoint.guard.trying import CannotTry, try_start
from portero.endpoint.probing.ending_here import ProbeFilter, probe_filter
from portero.endpoint.probing.orders import Tries, not_tried
from portero.endpoint.probing.starting_here import DOES_NOT_OPEN, StartPages
from portero.endpoint.running import put_browsers_right

AT_ONCE = 2
"""So many browsers are driven at once."""
_VERDICTS = {"opened": Verdict.ALLOW, "stopped": Verdict.BLOCK, "warned": Verdict.WARN}


class _Session(NamedTuple):
    """What one start of a browser serves: the browser, the kind of window, whose visits."""

    browser: str
    is_private: bool
    user: str


def with_what_is_here(agent: Agent, policies: Path | None) -> Tries:
    """Tries probes with this machine's browsers and its guard. `policies` is where its browsers find their policies."""

    async def tries(probes: Sequence[OrderedProbe], *, pictures: bool) -> list[Seen]:
        # by what was applied this moment, too, which the next look would have written
        await put_browsers_right(agent)
        visits = [one for one in probes if one.visit is not None]
        seen = await _visits(agent, policies, visits, pictures)
        for one in probes:
            if one.start is not None:
                seen.append(await asyncio.to_thread(_start, agent, one))
        return sorted(seen, key=lambda each: each.number)

    return tries


# --- visits ---


async def _visits(agent: Agent, policies: Path | None, probes: Sequence[OrderedProbe], pictures: bool) -> list[Seen]:
    if not probes:
        return []
    installed = {one.name: one for one in await asyncio.to_thread(installed_browsers)}
    first = next(iter(installed), "")
    at_once = asyncio.Semaphore(AT_ONCE)

    def session(one: OrderedProbe) -> _Session:
        return _Session(one.browser or first, one.window == "private", one.user or "")

    async def tried(key: _Session, own: list[OrderedProbe]) -> list[Seen]:
        browser = installed.get(key.browser)
        if browser is None:
            why = f"This machine has no {key.browser or 'browser that can be driven'}."
            return [not_tried(one, why) for one in own]
        async with at_once, probe_filter(agent, key.user or None) as through:
            return await asyncio.to_thread(_in_browser, browser, key.is_private, policies, through, own, pictures)

    sessions = [(key, list(some)) for key, some in groupby(sorted(probes, key=session), session)]
    seen = await asyncio.gather(*(tried(key, own) for key, own in sessions))
    return [one for own in seen for one in own]


def _in_browser(
    browser: Installed,
    is_private: bool,
    policies: Path | None,
    through: ProbeFilter,
    probes: Iterable[OrderedProbe],
    pictures: bool,
) -> list[Seen]:
    """Try visits one after the other in one browser, with a profile that is fresh for all of them."""
    waiting, seen = list(probes), list[Seen]()
    try:
        with driven(browser, policies, through.port, is_private=is_private) as window:
            while waiting:
                one, began = waiting[0], time.monotonic()
                through.asking.warned.clear()
                try:
                    visit = parse_visit(one.visit or "")
                    arrived = _arrived(window, visit.url, one.reached_by, through.pages)
                except (BadUrl, _CannotSetOut) as problem:
                    seen.append(not_tried(one, str(problem)))
                else:
                    told = _told(one, browser, arrived, time.monotonic() - began, visit.host in through.asking.warned)
                    picture = window.picture() if pictures else None
                    seen.append(told.model_copy(update={"picture": _fitting(picture)}))
                waiting.pop(0)
    except (BrowserFailed, OSError) as problem:
        seen += [not_tried(one, str(problem) or type(problem).__name__) for one in waiting]
    return seen


class _CannotSetOut(RuntimeError):
    """The page from which to reach an address does not open; the message says why."""


def _arrived(window: Driven, url: str, by: ReachedBy | None, pages: StartPages) -> Arrived:
    """Where a window arrives that goes to a URL in this way. _CannotSetOut, BrowserFailed."""
    if by in (None, "typed"):
        return window.go(url)
    begun = window.go(pages.leading_to(url, by))
    if begun.error is not None:
        by_list = outcome_of(begun)[1] == "browser"
        raise _CannotSetOut(
            DOES_NOT_OPEN if by_list else f"The page from which to set out does not open: {begun.error}"
        )
    return window.follow()


def _told(one: OrderedProbe, browser: Installed, arrived: Arrived, seconds: float, warned: bool) -> Seen:
    outcome, layer, reference = outcome_of(arrived)
    if outcome == "opened" and warned:
        # the filter warned, and in what it does not see it can show nothing
        outcome, layer = "warned", "filter"
    if outcome == "unanswered":
        return not_tried(one, f"Nothing answered in {browser.name}: {arrived.error or 'no page'}")
    return Seen(
        number=one.number,
        verdict=_VERDICTS[outcome],
        layer=Layer(layer) if layer else None,
        saw=_sight(outcome, layer, reference),
        browser=browser.name,
        browser_version=browser.version,
        reference=reference,
        seconds=round(seconds, 3),
    )


def _fitting(picture: str | None) -> str | None:
    """A picture as base64, where it is not too large to be told."""
    return picture if picture is not None and len(picture) <= MOST_PICTURE * 4 // 3 else None


def _sight(outcome: str, layer: str | None, reference: str | None) -> Sight:
    if outcome == "opened":
        return "page"
    if layer == "browser":
        return "browser-page"
    if reference:
        return "notice"
    return "beside" if outcome == "warned" else "refused"


# --- starts ---


def _start(agent: Agent, one: OrderedProbe) -> Seen:
    """Try to start an installed program that is the one meant; it is ended before it does anything."""
    assert one.start is not None
    known = agent.inventory.applications if agent.inventory is not None else agent.facts.applications
    wanted = one.start.model_dump(exclude_none=True)
    found = next((each for each in known if each.path and _is_meant(wanted, each.model_dump())), None)
    if found is None or found.path is None:
        return not_tried(one, "This machine has no such program. One to try with: portero-endpoint test-program.")
    began = time.monotonic()
    try:
        started, verdict = try_start(agent, found.path, one.user)
    except (CannotTry, OSError) as problem:
        return not_tried(one, str(problem) or type(problem).__name__)
    return Seen(
        number=one.number,
        verdict=verdict,
        layer=None if started else Layer.STARTUP,
        saw="started" if started else "not-started",
        seconds=round(time.monotonic() - began, 3),
    )


def _is_meant(wanted: dict[str, str], program: dict[str, str]) -> bool:
    return all(str(program.get(name) or "").casefold() == value.casefold() for name, value in wanted.items())
