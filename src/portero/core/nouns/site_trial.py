"""Addresses tried against a site list that is being written, in each family of browsers side by side."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, StringConstraints

from portero.core.nouns.action import Verdict
from portero.core.nouns.base import Noun
from portero.core.nouns.coverage import BrowserFamily
from portero.core.nouns.ruleset import Ruleset

MOST_TRIED = 100


class SiteTrial(Noun):
    """What to try: some addresses, on a ruleset of sites as it stands, saved or not."""

    ruleset: Ruleset
    urls: Annotated[
        tuple[Annotated[str, StringConstraints(min_length=1, max_length=8192)], ...],
        Field(min_length=1, max_length=MOST_TRIED),
    ]


class TriedInBrowser(Noun):
    """What a family of browsers makes of an address."""

    family: BrowserFamily
    verdict: Verdict
    rule: Annotated[int | None, Field(description="The rule that counts there; None where no pattern holds it.")] = None
    pattern: Annotated[str | None, Field(description="Its pattern.")] = None
    got: Annotated[
        str | None, Field(description="What it is handed in place of the pattern, where it cannot say that.")
    ] = None


class TriedUrl(Noun):
    """An address, and what browsers make of it."""

    url: str
    problem: Annotated[str | None, Field(description="Why it is no address that a browser would open.")] = None
    meant: Annotated[Verdict | None, Field(description="What the list means, whatever the browser.")] = None
    browsers: tuple[TriedInBrowser, ...] = ()
