"""What browsers would make of addresses under a site list: each family by its own model, with what it is handed."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from portero.core.insight.site_lists import any_browsers, policy_of_ruleset
from portero.core.nouns.action import Verdict
from portero.core.nouns.coverage import CoverageTable, ListSupport
from portero.core.nouns.site_trial import SiteTrial, TriedInBrowser, TriedUrl
from portero.core.nouns.urls import BadUrl, Visit, parse_visit
from portero.core.resolving.deciding import SiteOutcome, weigh_handed, weigh_sites
from portero.core.resolving.policy import Frame
from portero.core.resolving.situations import Situation


def try_sites(trial: SiteTrial, table: CoverageTable, at: datetime) -> list[TriedUrl]:
    """What each family of browsers makes of each address, under the ruleset by itself."""
    frame = policy_of_ruleset(trial.ruleset).frame(Situation(at=at))
    supports = [governed.support for governed in any_browsers(table)]
    return [_tried(frame, url, supports) for url in trial.urls]


def _tried(frame: Frame, url: str, supports: list[ListSupport]) -> TriedUrl:
    try:
        visit = parse_visit(url)
    except BadUrl as problem:
        return TriedUrl(url=url, problem=str(problem))
    browsers = tuple(_in_browser(frame, visit, support) for support in supports)
    return TriedUrl(url=visit.url, meant=_verdict(weigh_sites(frame, visit)), browsers=browsers)


def _verdict(outcome: SiteOutcome) -> Verdict:
    return Verdict.ALLOW if outcome.allows else Verdict.BLOCK


def _in_browser(frame: Frame, visit: Visit, support: ListSupport) -> TriedInBrowser:
    outcome = weigh_handed(frame, visit, support)
    if outcome.winner is None:
        return TriedInBrowser(family=support.family, verdict=Verdict.ALLOW)
    pattern, winner = outcome.winner
    changed = frame.site_list.handed(support).changed.get(frame.site_list.place(pattern))
    return TriedInBrowser(
        family=support.family,
        verdict=_verdict(outcome),
        rule=winner.rule,
        pattern=str(pattern),
        got=changed.got if changed is not None and not changed.is_slight else None,
    )


def differing(tried: list[TriedUrl]) -> Iterator[TriedUrl]:
    """Those of which some browser does otherwise than the list means."""
    return (one for one in tried if any(browser.verdict is not one.meant for browser in one.browsers))
