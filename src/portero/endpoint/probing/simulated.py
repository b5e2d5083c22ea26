"""Trying probes as simulated machines do, with the code that decides: by what they hold, as they are; nothing opens."""

from __future__ import annotations

import time
from collections.abc import Sequence

from portero.core.matching.applications import catalogue_of
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.layer import Layer
from portero.core.nouns.observation import OrderedProbe, Seen, Sight
from portero.core.nouns.urls import BadUrl, parse_visit
from portero.core.nouns.verdict import Effective
from portero.core.resolving.bundles import coverage_of
from portero.core.resolving.enforcement import Machine
from portero.core.resolving.explaining import Case, explain
from portero.endpoint.agent import Agent
from portero.endpoint.probing.orders import Tries, not_tried
from portero.endpoint.probing.starting_here import DOES_NOT_OPEN, SETS_OUT_AT


def by_what_it_holds(agent: Agent) -> Tries:
    """Tries probes as a simulated machine."""

    async def tries(probes: Sequence[OrderedProbe], *, pictures: bool) -> list[Seen]:
        return [_seen(agent, one) for one in probes]

    return tries


def _seen(agent: Agent, one: OrderedProbe) -> Seen:
    began, browsers = time.perf_counter(), {browser.name: browser.version for browser in agent.facts.browsers}
    if one.browser is not None and one.browser not in browsers:
        return not_tried(one, f"This machine has no {one.browser}.")
    browser = (one.browser or next(iter(browsers), None)) if one.visit is not None else None
    if one.reached_by in ("link", "redirect") and _stops_in_browser(agent, one, browser):
        return not_tried(one, DOES_NOT_OPEN)
    try:
        verdict, layer, saw = _what_happens(agent, one, browser)
    except BadUrl as problem:
        return not_tried(one, str(problem))
    return Seen(
        number=one.number,
        verdict=verdict,
        layer=layer,
        saw=saw,
        browser=browser,
        browser_version=browsers.get(browser) if browser else None,
        seconds=round(time.perf_counter() - began, 4),
    )


def _stops_in_browser(agent: Agent, one: OrderedProbe, browser: str | None) -> bool:
    """Whether the browser's own list stops the page from which a probe sets out."""
    effective = _effective(agent, one.model_copy(update={"visit": SETS_OUT_AT}), browser)
    layers = () if effective is None else effective.layers
    return any(layer.layer is Layer.BROWSER and layer.verdict is Verdict.BLOCK for layer in layers)


def _what_happens(agent: Agent, one: OrderedProbe, browser: str | None) -> tuple[Verdict, Layer | None, Sight]:
    passes: Sight = "page" if one.visit is not None else "started"
    effective = _effective(agent, one, browser)
    if effective is None or effective.verdict is Verdict.ALLOW:
        return Verdict.ALLOW, None, passes
    layer = next(layer.layer for layer in effective.layers if layer.verdict is effective.verdict)
    return effective.verdict, layer, _sight(effective.verdict, layer, one)


def _sight(verdict: Verdict, layer: Layer, one: OrderedProbe) -> Sight:
    if layer is Layer.STARTUP:
        return "not-started"
    if layer is Layer.BROWSER:
        return "browser-page"
    if parse_visit(one.visit or "").scheme != "https":
        return "notice"
    # a tunnel is refused, and no page can say why; or it is let through, and none can warn
    return "refused" if verdict is Verdict.BLOCK else "beside"


def _effective(agent: Agent, one: OrderedProbe, browser: str | None) -> Effective | None:
    """What this machine would do, by its own bundle, facts and clock; None where it holds nothing yet."""
    if agent.rulings is None:
        return None
    # at what its own clock says: by how much that is off counts no second time
    policy, facts = agent.rulings.policy, agent.facts.model_copy(update={"clock_ahead": None})
    machine = Machine.of(
        facts,
        applied=policy,
        coverage=coverage_of(policy.bundle),
        catalogue=catalogue_of(facts.applications),
        since=agent.until_restart_since,
    )
    attempt = Attempt(
        device=facts.hostname,
        url=one.visit,
        start=one.start,
        user=one.user,
        browser=browser,
        at=agent.now(),
        place=facts.place,
    )
    return explain(policy, Case(attempt, agent.rulings.index, machine, agent.groups_of(one.user))).effective
