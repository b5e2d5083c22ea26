"""Why an attempt came out as it did: winners, losers, layer modes, caveats, the notice."""

from __future__ import annotations

from collections.abc import Sequence

from portero.core.nouns.device import LayerMode
from portero.core.nouns.verdict import (
    Aside,
    Caveat,
    CaveatCode,
    Layer,
    LayerVerdict,
    RuleReference,
    Rung,
    ThisDevice,
)
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.wording import LAYER_WORDS, VERBS, joined

PROVISIONAL = (
    "Provisional: of the patterns that match, the more specific one is taken to win, and an allow among equals; no"
    " browser was asked."
)
ESSENTIAL = "This program is on the list of essential ones, without which a machine neither runs nor can be mended."
NOTHING_IN_PLAY = "No site list is in play."

_KINDS = {
    "category": "the category itself",
    "family": "its family",
    "everything": "everything",
    "media_type": "the media type",
    "search_term": "the search term",
    "url": "a URL",
    "host": "a host",
    "address": "an address",
    "service": "the service",
    "decision": "a decision on services",
    "suitability": "a suitability bound",
    "application_set": "an application set",
    "sha256": "this very program",
    "pattern": "a pattern",
}


def target_words(target: str | ThisDevice) -> str:
    """A rule's target in words: the group's key, or the device."""
    return target if isinstance(target, str) else (target.device or "the device itself")


def _named(rule: RuleReference) -> str:
    return f"{rule.ruleset} on {target_words(rule.target)}"


def _selector_words(rule: RuleReference, other: RuleReference) -> str:
    """What a rule names; the very selector where the other one's is of the same kind."""
    kind, other_kind = (reference.selector.partition(" ")[0] for reference in (rule, other))
    return rule.selector if kind == other_kind else _KINDS[kind]


def lost_because(loser: RuleReference, winner: RuleReference, rung: Rung) -> str:
    """Why the loser lost to the winner, in one sentence."""
    named = _named(winner)
    sentences = {
        Rung.MANDATORY: f"{named} is mandatory, and an ordinary rule cannot undo it",
        Rung.SELECTOR: f"{named} names {_selector_words(winner, loser)}, which is narrower than"
        f" {_selector_words(loser, winner)}",
        Rung.PEOPLE: f"{named} is more closely for this person",
        Rung.TARGET: f"{target_words(winner.target)} is stronger than {target_words(loser.target)}",
        Rung.ORIGIN: f"{named} is written by hand, and {loser.ruleset} is brought in by a feed",
        Rung.ACTION: f"{winner.action} is stricter than {loser.action}, and nothing else tells {named} from it",
        Rung.STRICTEST: f"something else about the visit is settled by {named}, and the strictest counts",
        Rung.LIFTED: f"{named} names {winner.selector} by itself, which sets aside what its categories say",
        Rung.BROWSER: f"browsers let the more specific pattern count, and that is {winner.selector} of {named}",
    }
    return sentences.get(rung, f"{named} says the same and stands earlier")


def replaced_because(ruleset: str, target: str) -> str:
    """Why a rule does not count where an assignment replaces weaker ones."""
    return f"{ruleset} on {target} replaces what weaker targets say with rulesets of this kind"


_ASIDE = {
    Aside.DRAFT: "it is a draft",
    Aside.PAUSED: "it is paused",
    Aside.NOT_STARTED: "it has not started yet",
    Aside.ENDED: "it has ended",
    Aside.EXPIRED: "the rule has reached its end",
    Aside.OTHER_PEOPLE: "it is for other people",
    Aside.SCHEDULE: "its schedule is not open now",
    Aside.OTHER_PLACE: "it holds in another place",
    Aside.RESTARTED: "the machine has restarted since",
}


def aside_because(rule: RuleReference, reason: Aside) -> str:
    """Why a rule that would match does not count now."""
    return f"{_named(rule)} would match, but {_ASIDE[reason]}"


def _recorded(logged: Sequence[RuleReference]) -> str:
    return f"; recorded for {joined(sorted({_named(rule) for rule in logged}))}" if logged else ""


def _wins(winner: RuleReference) -> str:
    return f"{_named(winner)} {VERBS[winner.action]} it{', mandatory' if winner.mandatory else ''}"


def decided_because(winner: RuleReference | None, categories: Sequence[str], logged: Sequence[RuleReference]) -> str:
    """Why the filter layer says what it says, in one sentence."""
    names = joined([TAXONOMY.categories[key].name for key in categories if key in TAXONOMY.categories])
    if winner is None:
        return f"No rule decides {names} on this machine, so it is allowed{_recorded(logged)}."
    kind = winner.selector.partition(" ")[0]
    by = f"the host is in {names}" if kind in ("category", "family", "everything") else f"it names {winner.selector}"
    return f"{_wins(winner)}: {by}{_recorded(logged)}."


def started_because(winner: RuleReference | None, logged: Sequence[RuleReference]) -> str:
    """Why the startup layer says what it says, in one sentence."""
    if winner is None:
        return f"No rule decides on this program on this machine, so it may start{_recorded(logged)}."
    return f"{_wins(winner)}: it names {winner.selector}{_recorded(logged)}."


def listed_because(winner: RuleReference | None) -> str:
    """Why a browser that was handed the site list does what it does, in one sentence."""
    if winner is None:
        return "No pattern of the site list matches, so the browser lets it pass."
    return f"{_wins(winner)}: it names {winner.selector}."


def meant_to(mode: LayerMode, layer: LayerVerdict) -> str:
    """Why a layer in this mode decides nothing, though its rules would."""
    if mode is LayerMode.OFF:
        return "The estate leaves this layer off here, so it decides nothing."
    if layer.winner is None:
        return "The estate means this layer only to record here."
    return f"The estate means this layer only to record here. Enforcing, {_named(layer.winner)} would decide."


def does(layer: Layer, mode: LayerMode) -> str:
    """What a layer in this mode does."""
    words = {"enforcing": "enforces", "observing": "only records, so nothing is stopped"}
    return f"The {LAYER_WORDS[layer]} of this machine {words.get(mode, 'is off, so nothing is stopped')}."


def left_to_gateway(network: str) -> str:
    """Why a machine does not filter by itself."""
    return f"This machine is on-site in {network}, where the estate leaves filtering to the gateway."


def not_reached(browser: str | None, scheme: str) -> Caveat:
    """The caveat of a browser that the filter does not reach."""
    return Caveat(
        code=CaveatCode.FILTER_OFF,
        layer=Layer.FILTER,
        detail=f"By the coverage table the filter does not reach {browser or 'this browser'} over {scheme} here.",
        remedy="Keep this browser from starting, or mend the coverage table where it is out of date.",
    )


def unmanaged(browser: str) -> Caveat:
    """The caveat of a browser that takes no managed policy."""
    return Caveat(
        code=CaveatCode.BROWSER_UNMANAGED,
        layer=Layer.BROWSER,
        detail=f"A site list is in play, but {browser} on this machine takes no managed policy, so nothing holds it.",
        remedy="Let the browser take managed policy, keep it from starting, or use indicators instead.",
    )


def layer_not_reported(layer: Layer) -> Caveat:
    """The caveat of a layer of which the machine does not say what it does."""
    return Caveat(
        code=CaveatCode.FACT_MISSING,
        layer=layer,
        detail=f"This machine does not report what its {LAYER_WORDS[layer]} does; it is taken as enforcing.",
        remedy="Let it check in with a newer endpoint.",
    )


_TAKEN_AS = {
    "zone": "no time zone, so that schedules on its own clock run on UTC",
    "place": "no place, so that it counts as off-site",
    "last_start": "not when it last started, so that what holds until then still holds",
}


def facts_missing(layer: Layer, facts: Sequence[str]) -> Caveat:
    """The caveat of rules that hang on facts which the machine does not report."""
    told = joined([_TAKEN_AS[fact] for fact in facts])
    return Caveat(
        code=CaveatCode.FACT_MISSING,
        layer=layer,
        detail=f"A rule depends on it, and this machine reports {told}.",
        remedy="Let the machine report it, or leave it out of the assignment.",
    )


def fields_missing(fields: Sequence[str]) -> Caveat:
    """The caveat of startup rules that look at what is not known of the program."""
    return Caveat(
        code=CaveatCode.FACT_MISSING,
        layer=Layer.STARTUP,
        detail=f"Rules look at the program's {joined(fields)}, which this attempt does not carry; they match nothing.",
        remedy="Say more about the program, or name it by something that is known.",
    )


_CAVEATS: dict[CaveatCode, tuple[str, str]] = {
    CaveatCode.NOT_ENROLLED: (
        "This machine has never joined, so nothing of the estate reaches it.",
        "Give it an enrolment code and let it join.",
    ),
    CaveatCode.NEVER_APPLIED: (
        "This machine has joined but has not applied any bundle yet.",
        "See that it can reach the service; it applies its bundle at the first check-in.",
    ),
    CaveatCode.STALE_BUNDLE: (
        "This machine does not hold the newest bundle yet.",
        "Wait for its next check-in; the roll-out page says when to expect it.",
    ),
    CaveatCode.STALE_INDEX: (
        "This machine does not hold the newest category index yet, so it may see the host in other categories.",
        "Wait for its next check-in; a correction of the host travels with the bundle.",
    ),
    CaveatCode.SILENT: (
        "This machine has missed its check-ins, so nobody knows what it does now.",
        "See that it is switched on and reaches the service.",
    ),
    CaveatCode.FILTER_OFF: (
        "The filter of this machine is off, so nothing is stopped.",
        "Switch its filter on.",
    ),
    CaveatCode.FILTER_OBSERVING: (
        "The filter of this machine only records, so nothing is stopped.",
        "Set its filter to enforcing.",
    ),
    CaveatCode.NOTICE_HIDDEN: (
        "Over https the filter sees no page to put the notice in: a block shows as a refused connection, and a"
        " warning is recorded while the visit goes on.",
        "Tell people what a refused connection means; where a warning is not enough, block.",
    ),
    CaveatCode.PATH_HIDDEN: (
        "A rule names a path or a query, and over https this browser's traffic shows the filter only the host.",
        "Name the whole host, or use a site list in a browser that takes managed policy.",
    ),
    CaveatCode.CONTENT_HIDDEN: (
        "A rule names a search term or a media type, which the filter cannot see over https.",
        "Name the host or its category instead.",
    ),
    CaveatCode.BROWSER_UNMANAGED: (
        "The browser layer of this machine does not enforce, so its browsers are handed no site list.",
        "Switch its browser layer on.",
    ),
    CaveatCode.STARTUP_OFF: (
        "The startup layer of this machine is off, so every program starts.",
        "Switch its startup layer on.",
    ),
    CaveatCode.STARTUP_OBSERVING: (
        "The startup layer of this machine only records, so every program starts.",
        "Set its startup layer to enforcing.",
    ),
    CaveatCode.TRUSTED_GATEWAY: (
        "On this site the estate leaves filtering to the gateway; what the gateway stops is not known here.",
        "See that the gateway carries the same policy, or take its network out of the settings.",
    ),
}


def caveat(code: CaveatCode, layer: Layer | None = None) -> Caveat:
    """The caveat with its detail and remedy."""
    detail, remedy = _CAVEATS[code]
    return Caveat(code=code, layer=layer, detail=detail, remedy=remedy)


def notice_sentence(verdict: str, winner: RuleReference | None, categories: Sequence[str]) -> str:
    """Why the person sees a notice, in plain words."""
    kind = winner.selector.partition(" ")[0] if winner else "category"
    if kind in ("category", "family", "everything"):
        what = "is listed under " + joined([f"“{TAXONOMY.categories[key].name}”" for key in categories])
    else:
        what = f"is one that your organisation names ({winner.selector})" if winner else ""
    if verdict == "warn":
        return f"This site {what}. Your organisation asks you to think twice before you go on."
    return f"This site {what}. It is not opened on this machine."
