"""Browsers that no web rule reaches on some machines: neither the filter nor a site list."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from portero.core import sentences
from portero.core.insight.findings.policy_files import is_in_force
from portero.core.matching.members import Item, Member
from portero.core.nouns.coverage import CoverageTable, Reach
from portero.core.nouns.layer import LayerMode
from portero.core.nouns.restriction import BrowserNotReached


def unreached_browsers(
    machines: Iterable[Member], coverage: CoverageTable, site_lists: bool
) -> tuple[BrowserNotReached, ...]:
    """Each browser that some of the machines have and that opens the web there whatever rules say, by name.
    `site_lists` is False where there is to be none.
    """
    found: dict[str, list[bool]] = {}
    for machine in machines:
        starts_blocked = machine.facts.layers.startup == LayerMode.ENFORCING
        for name in _of_machine(machine, coverage, site_lists):
            found.setdefault(name, []).append(starts_blocked)
    return tuple(_told(name, len(blocked), blocked.count(False)) for name, blocked in sorted(found.items()))


def _told(name: str, machines: int, starting: int) -> BrowserNotReached:
    told = sentences.browser_not_reached(name, machines, starting)
    return BrowserNotReached(name=name, machines=machines, starting=starting, sentence=told)


def _of_machine(machine: Member, coverage: CoverageTable, site_lists: bool) -> Iterator[str]:
    facts = machine.facts
    filtered = facts.layers.filter == LayerMode.ENFORCING
    listed = site_lists and facts.layers.browser == LayerMode.ENFORCING
    for browser in facts.browsers:
        if filtered and _is_filtered(browser, facts.platform, coverage):
            continue
        if listed and _is_listed(browser, facts.platform, coverage):
            continue
        if browser.name:
            yield browser.name.casefold()


def _is_filtered(browser: Item, platform: str | None, coverage: CoverageTable) -> bool:
    return all(
        coverage.reach("filter", browser.name, platform, scheme) is not Reach.NONE for scheme in ("http", "https")
    )


def _is_listed(browser: Item, platform: str | None, coverage: CoverageTable) -> bool:
    governed = coverage.governs(browser.name, browser.managed, platform)
    return governed and (browser.policy is None or is_in_force(browser.policy))
