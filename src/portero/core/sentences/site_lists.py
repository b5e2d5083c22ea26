"""What becomes of a site list in browsers, in words."""

from __future__ import annotations

from collections.abc import Sequence

from portero.core.browsers.lists import Changed, Unsayable
from portero.core.nouns.action import Action
from portero.core.nouns.caveat import Caveat, CaveatCode
from portero.core.nouns.coverage import BrowserFamily, ListSupport
from portero.core.nouns.layer import Layer
from portero.core.nouns.patterns import Rewriting
from portero.core.nouns.verdict import RuleReference
from portero.core.sentences.verdicts import target_words
from portero.core.wording import VERBS, counted, joined

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
    weighty = [reason for reason in changed.reasons if reason is not Unsayable.CASE]
    return joined([_REASONS[reason] for reason in weighty or changed.reasons])


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
    return f"{_some(cut)} {'is' if len(cut) == 1 else 'are'} cut off"


def _some(names: Sequence[str]) -> str:
    more = len(names) - _MOST_NAMED
    return joined([*names[:_MOST_NAMED], f"{more:,} more"] if more > 0 else list(names))


# --- while a list is written ---


def pattern_rewritten(rewriting: Rewriting) -> str:
    """That a pattern is handed over in another form than it was written, as browsers would not take it as meant."""
    return f"“{rewriting.written}” is handed to browsers as {rewriting.handed}: written like that, {rewriting.why}."


def patterns_spelt(alike: Sequence[tuple[str, str]]) -> str:
    """That patterns are handed over in their usual form, which browsers take for the same."""
    written, handed = alike[0]
    more = f", and {counted(len(alike) - 1, 'more pattern')} likewise" if len(alike) > 1 else ""
    return f"“{written}” is handed to browsers in its usual form, as {handed}, which is the same to them{more}."


def pattern_literal(pattern: str) -> str:
    """That an asterisk within a path is a plain character."""
    return (
        f"Within a path browsers take an asterisk as a plain character: {pattern} holds only pages that have it in"
        " their address. Name the path up to it."
    )


def pattern_idle(pattern: str) -> str:
    """That a pattern is of another scheme than the web's."""
    return f"{pattern} holds no page over http or https; browsers keep it for addresses of that scheme alone."


def pattern_doubled(pattern: str, action: Action) -> str:
    """That a pattern is both blocked and allowed."""
    return f"{pattern} is both blocked and allowed: {action} stands by the ladder, and only that is handed to browsers."


def pattern_under_mandatory(pattern: str, above: Action) -> str:
    """That a pattern is not handed over, as it lies within an opposite mandatory one."""
    return f"{pattern} is not handed to browsers: it lies within a mandatory pattern that {VERBS[above]} it."


def _there(family: BrowserFamily, devices: int | None) -> str:
    return FAMILY_WORDS[family] + (f", on {counted(devices, 'machine')}," if devices else "")


def pattern_changed_in(pattern: str, changed: Changed, family: BrowserFamily, devices: int | None) -> str:
    """That a family of browsers cannot say a pattern as it is meant, and what it gets."""
    got = f"it gets {changed.got} instead" if changed.got else "the pattern is left out there"
    return (
        f"{_there(family, devices)} cannot say {pattern} as it is meant: {_because(changed)}; {got}. The rule's"
        " “reading” says whether it is read more strictly or left out."
    )


def patterns_changed(ruleset: str, patterns: Sequence[tuple[str, Changed]], family: BrowserFamily, devices: int) -> str:
    """That a family of browsers cannot say patterns of a ruleset as they are meant, on some machines."""
    (first, changed), more = patterns[0], len(patterns) - 1
    got = f"it gets {changed.got} instead of {first}" if changed.got else f"{first} is left out there"
    also = f", and {counted(more, 'more pattern')} likewise" if more else ""
    return (
        f"{FAMILY_WORDS[family]}, on {counted(devices, 'machine')}, cannot say patterns of {ruleset} as they are meant:"
        f" {_because(changed)}; {got}{also}."
    )


def case_ignored(patterns: Sequence[str], family: BrowserFamily) -> str:
    """That a family of browsers compares paths without regard to case."""
    holds = "holds" if len(patterns) == 1 else "hold"
    return f"In {FAMILY_WORDS[family]} {_some(patterns)} {holds} in upper and lower case alike: it compares paths so."


def patterns_needless(whole: int, needless: int, first: str, wider: str | None, family: BrowserFamily) -> str:
    """That patterns are left out with the same outcome."""
    why = f"{wider} says the same of all its pages" if wider else "nothing that is blocked holds any of its pages"
    return (
        f"Of {counted(whole, 'pattern')} {FAMILY_WORDS[family]} is handed {whole - needless:,}, the same outcome:"
        f" {first} is needless, as {why}{_and_more(needless - 1)}."
    )


def _and_more(number: int) -> str:
    return f", and so {'is' if number == 1 else 'are'} {number:,} more" if number else ""


def list_cut(patterns: int, kept: int, cut: Sequence[str], support: ListSupport, devices: int | None) -> str:
    """That a list is longer than browsers take."""
    spared = f", {kept:,} of them needed" if kept < patterns else ""
    return (
        f"The list has {counted(patterns, 'pattern')}{spared}, and {_there(support.family, devices)} takes"
        f" {support.limit:,} entries of each list: {_cut(cut)}."
    )


# --- as a browser is handed it ---


def list_handed(of: str, browser: str, patterns: int, needless: int, left_out: int, cut: int) -> str:
    """How much of its site list a browser of a machine or group is handed."""
    if not patterns:
        return f"No site list is in play on {of}, so {browser} is handed an empty one."
    some = []
    if needless:
        some.append(f"{needless:,} {'is' if needless == 1 else 'are'} needless")
    if left_out:
        some.append(f"{left_out:,} cannot be said there and {'is' if left_out == 1 else 'are'} left out")
    if cut:
        some.append(f"{cut:,} {'is' if cut == 1 else 'are'} cut off, as it takes no more")
    handed = counted(patterns - needless - left_out - cut, "entry", "entries")
    why = f" ({joined(some)})" if some else ""
    return f"The site list of {of} has {counted(patterns, 'pattern')}, of which {browser} is handed {handed}{why}."
