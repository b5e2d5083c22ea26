"""Caveats in words, each with its remedy."""

from __future__ import annotations

from collections.abc import Sequence

from portero.core.nouns.caveat import Caveat, CaveatCode
from portero.core.nouns.layer import Layer
from portero.core.wording import LAYER_WORDS, counted, joined


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


def browser_missing(browser: str, installed: Sequence[str]) -> Caveat:
    """The caveat of a visit with a browser that the machine does not report."""
    return Caveat(
        code=CaveatCode.BROWSER_MISSING,
        detail=f"This machine reports no {browser}, but {joined(installed)}: this is what would become of it there.",
        remedy="Name a browser that it has, or let it report the other one.",
    )


def layer_too_old(layer: Layer, version: str, least: str) -> Caveat:
    """The caveat of a layer that is older than the coverage table relies on."""
    detail = f"The {LAYER_WORDS[layer]} of this machine is {version}, and {least} is needed"
    return _too_old(CaveatCode.LAYER_TOO_OLD, layer, detail, "it")


def platform_too_old(layer: Layer, platform: str, least: str) -> Caveat:
    """The caveat of an operating system that is older than the coverage table relies on."""
    detail = f"This machine has {platform}, and the {LAYER_WORDS[layer]} needs {least}"
    return _too_old(CaveatCode.PLATFORM_TOO_OLD, layer, detail, "its system")


def browser_too_old(layer: Layer, browser: str, least: str) -> Caveat:
    """The caveat of a browser that is older than the coverage table relies on."""
    detail = f"This machine has {browser}, and {least} is needed"
    return _too_old(CaveatCode.BROWSER_TOO_OLD, layer, detail, "the browser")


def _too_old(code: CaveatCode, layer: Layer, detail: str, what: str) -> Caveat:
    return Caveat(
        code=code,
        layer=layer,
        detail=f"{detail}: it may let all pass.",
        remedy=f"Update {what}; the lowest versions are in the coverage table.",
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


def no_index() -> Caveat:
    """A machine without a category index that it can use."""
    return Caveat(
        code=CaveatCode.STALE_INDEX,
        layer=Layer.FILTER,
        detail="This machine has no category index that it can use, so no host has a category by one there.",
        remedy="It fetches one anew when it checks in; what keeps it from that is told with its roll-out.",
    )


def clock_off_by(ahead: int) -> str:
    """How far a clock is off: “60 minutes ahead”."""
    seconds = abs(ahead)
    size, unit = next((size, unit) for size, unit in _SPANS if seconds >= 2 * size or size == 60)
    return f"{counted(round(seconds / size), unit)} {'ahead' if ahead > 0 else 'behind'}"


_SPANS = ((86_400, "day"), (3_600, "hour"), (60, "minute"))


def clock_off(ahead: int) -> Caveat:
    """A machine that goes by a clock of which an outcome is another than by the right one."""
    return Caveat(
        code=CaveatCode.CLOCK_OFF,
        detail=f"The clock of this machine is {clock_off_by(ahead)}, and by it a rule counts at another time.",
        remedy="Set its clock, and let it follow a time server.",
    )


def passed_by(ways: Sequence[str]) -> Caveat:
    """A startup rule that is known to be passed by in these ways."""
    told = joined([f"“{way}”" for way in ways], "or")
    return Caveat(
        code=CaveatCode.PASSED_BY,
        layer=Layer.STARTUP,
        detail=f"A program that is stopped is not seen, and starts all the same, by way of {told}.",
        remedy="Have no file of it on the machine, or block its hosts as well.",
    )
