"""What becomes of a site list in browsers, in words."""

from __future__ import annotations

from collections.abc import Sequence

from portero.core.browsers.lists import Changed, Unsayable
from portero.core.nouns.caveat import Caveat, CaveatCode
from portero.core.nouns.coverage import BrowserFamily
from portero.core.nouns.layer import Layer
from portero.core.nouns.verdict import RuleReference
from portero.core.sentences.verdicts import target_words
from portero.core.wording import counted, joined

FAMILY_WORDS: dict[BrowserFamily, str] = {"chromium": "Chromium", "firefox": "Firefox"}

_REASONS = {
    Unsayable.SCHEME: "it knows only http and https",
    Unsayable.PORT: "it cannot name a port",
    Unsayable.QUERY: "it cannot name a piece of the query",
    Unsayable.ASTERISK: "an asterisk in a path stands for anything there",
    Unsayable.SPELLING: "it compares paths with their escapes undone and double slashes made one",
    Unsayable.CASE: "it compares paths without regard to upper and lower case",
    Unsayable.NARROWER_BLOCK: "a narrower mandatory block could not count before it",
    Unsayable.UNDER_ALLOW: "whatever is allowed counts there before narrower blocks",
}


def counts_before(winner: RuleReference | None, family: BrowserFamily) -> str:
    """Why a pattern that matches does not count in a browser, where another one does."""
    if winner is None:
        return "it is not in this browser's list"
    named = f"{winner.selector} of {winner.ruleset} on {target_words(winner.target)}"
    if family == "firefox" and winner.action == "allow":
        return f"in Firefox what is allowed counts before whatever is blocked, and that is {named}"
    if family == "firefox":
        return f"in Firefox nothing that is allowed matches, and {named} blocks it"
    return f"browsers let the more specific pattern count, and that is {named}"


def is_cut(limit: int) -> str:
    """Why a pattern is not in a browser's list: it stands behind the last one that the browser takes."""
    return f"the browser takes {limit:,} entries of a list, and it stands behind them"


def is_left_out(changed: Changed, family: BrowserFamily) -> str:
    """Why a pattern is not in a browser's list: the browser cannot say it."""
    return f"{FAMILY_WORDS[family]} cannot say it, as {_because(changed)}, and it is left out there"


def _because(changed: Changed) -> str:
    return joined([_REASONS[reason] for reason in changed.reasons])


def pattern_changed(pattern: str, changed: Changed, family: BrowserFamily) -> Caveat:
    """The caveat of a pattern that a browser cannot say as it is meant."""
    got = f"it got {changed.got} instead" if changed.got else "it is left out there"
    return Caveat(
        code=CaveatCode.PATTERN_CHANGED,
        layer=Layer.BROWSER,
        detail=f"{FAMILY_WORDS[family]} cannot say the pattern {pattern} as it is meant: {_because(changed)}; {got}.",
        remedy="Write it so that every browser can say it, or say by its “reading” whether it is read more strictly or"
        " left out there.",
    )


def list_truncated(patterns: int, handed: int, cut: Sequence[str], limit: int, browser: str) -> Caveat:
    """The caveat of a list that is longer than the browser takes."""
    spared = f" ({patterns - handed:,} are needless)" if handed < patterns else ""
    return Caveat(
        code=CaveatCode.LIST_TRUNCATED,
        layer=Layer.BROWSER,
        detail=f"The site list has {counted(patterns, 'pattern')}{spared}, and {browser} takes {limit:,} entries of"
        f" each list: {_cut(cut)}.",
        remedy="Name hosts rather than their single pages, or block by category or indicator instead.",
    )


_MOST_NAMED = 3


def _cut(cut: Sequence[str]) -> str:
    more = len(cut) - _MOST_NAMED
    names = [*cut[:_MOST_NAMED], f"{more:,} more"] if more > 0 else list(cut)
    return f"{joined(names)} {'is' if len(cut) == 1 else 'are'} cut off"
