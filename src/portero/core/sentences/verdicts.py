"""Why an attempt came out as it did: winners, losers, layer modes, caveats, the notice."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from portero.core.nouns.device import LayerMode
from portero.core.nouns.verdict import Caveat, CaveatCode, Layer, LayerVerdict, RuleReference, Rung
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.sentences.words import VERBS, joined

_SELECTOR_WORDS = {"category": "the category itself", "family": "its family", "everything": "everything"}


def _named(rule: RuleReference) -> str:
    return f"{rule.ruleset} on {rule.target}"


def lost_because(loser: RuleReference, winner: RuleReference, rung: Rung) -> str:
    """Why the loser lost to the winner, in one sentence."""
    named = _named(winner)
    if rung is Rung.MANDATORY:
        return f"{named} is mandatory, and an ordinary rule cannot undo it"
    if rung is Rung.SELECTOR:
        kinds = [_SELECTOR_WORDS[rule.selector.partition(" ")[0]] for rule in (winner, loser)]
        return f"{named} names {kinds[0]}, which is narrower than {kinds[1]}"
    if rung is Rung.TARGET:
        return f"{winner.target} is stronger than {loser.target}"
    if rung is Rung.ACTION:
        return f"{winner.action} is stricter than {loser.action}, and nothing else tells {named} from it"
    if rung is Rung.STRICTEST:
        return f"another category of the host is settled by {named}, and the strictest counts"
    return f"{named} says the same and stands earlier"


def decided_because(winner: RuleReference | None, categories: Sequence[str], logged: Sequence[RuleReference]) -> str:
    """Why the filter layer says what it says, in one sentence."""
    names = joined([TAXONOMY.categories[key].name for key in categories if key in TAXONOMY.categories])
    recorded = f"; recorded for {joined(sorted({_named(rule) for rule in logged}))}" if logged else ""
    if winner is None:
        return f"No rule decides {names} on this machine, so it is allowed{recorded}."
    strong = ", mandatory" if winner.mandatory else ""
    return f"{_named(winner)} {VERBS[winner.action]} it{strong}: the host is in {names}{recorded}."


def meant_to(mode: LayerMode, layer: LayerVerdict) -> str:
    """Why a layer in this mode decides nothing, though its rules would."""
    if mode is LayerMode.OFF:
        return "The estate leaves this layer off here, so it decides nothing."
    if layer.winner is None:
        return "The estate means this layer only to record here."
    return f"The estate means this layer only to record here. Enforcing, {_named(layer.winner)} would decide."


def does(mode: LayerMode) -> str:
    """What a layer in this mode does."""
    words = {"enforcing": "enforces", "observing": "only records, so nothing is stopped"}
    return f"The filter of this machine {words.get(mode, 'is off, so nothing is stopped')}."


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


NOTHING_IN_PLAY = "No site list is in play."

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
    CaveatCode.TRUSTED_GATEWAY: (
        "On this site the estate leaves filtering to the gateway; what the gateway stops is not known here.",
        "See that the gateway carries the same policy, or take its network out of the settings.",
    ),
    CaveatCode.FACT_MISSING: (
        "This machine does not report what its filter does; it is taken as enforcing.",
        "Let it check in with a newer endpoint.",
    ),
}


def caveat(code: CaveatCode, layer: Layer | None = None) -> Caveat:
    """The caveat with its detail and remedy."""
    detail, remedy = _CAVEATS[code]
    return Caveat(code=code, layer=layer, detail=detail, remedy=remedy)


def notice_sentence(verdict: str, categories: Sequence[str], names: Mapping[str, str] | None = None) -> str:
    """Why the person sees a notice, in plain words."""
    known = names or {key: category.name for key, category in TAXONOMY.categories.items()}
    listed = joined([f"“{known.get(key, key)}”" for key in categories])
    if verdict == "warn":
        return f"This site is listed under {listed}. Your organisation asks you to think twice before you go on."
    return f"This site is listed under {listed}, which your organisation does not open on this machine."
