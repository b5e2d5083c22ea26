"""Why something is, or is not, stopped, in words: each cause with its proof and its one next step."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from typing import NamedTuple

from portero.core.nouns.action import Action, Verdict
from portero.core.nouns.caveat import Caveat
from portero.core.nouns.finding import Remedy
from portero.core.nouns.layer import Layer, LayerMode
from portero.core.nouns.lookup import HostLookup
from portero.core.nouns.rollout import RolloutState
from portero.core.nouns.verdict import Aside, Explanation, LayerVerdict, LostRule, RuleReference
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.nouns.why import Cause, CauseCode, Stage
from portero.core.sentences.verdicts import aside_because
from portero.core.wording import LAYER_WORDS, VERBS, as_sentence, counted, joined

_STAGES: dict[Stage, tuple[CauseCode, ...]] = {
    Stage.DELIVERY: (
        CauseCode.NEVER_JOINED,
        CauseCode.NO_AGENT,
        CauseCode.SILENT,
        CauseCode.FAILED_TO_APPLY,
        CauseCode.NOT_DELIVERED,
        CauseCode.OLDER_RULES,
    ),
    Stage.ENFORCEMENT: (
        CauseCode.LAYER_OFF_ESTATE,
        CauseCode.LAYER_OFF_GROUP,
        CauseCode.STARTUP_OBSERVES,
        CauseCode.LAYER_OFF_MACHINE,
        CauseCode.LAYER_NOT_REPORTED,
        CauseCode.TOO_OLD,
        CauseCode.BROWSER_TOO_OLD,
        CauseCode.BROWSER_NOT_COVERED,
        CauseCode.BROWSER_UNMANAGED,
        CauseCode.OTHER_BROWSER,
        CauseCode.POLICY_OVERRIDDEN,
        CauseCode.RESTART_NEEDED,
        CauseCode.PASSED_BY,
        CauseCode.GATEWAY,
        CauseCode.CLOCK_OFF,
    ),
    Stage.CONTENT: (CauseCode.OTHER_CATEGORY, CauseCode.STALE_INDEX),
    Stage.REACH: (
        CauseCode.PATH_HIDDEN,
        CauseCode.CONTENT_HIDDEN,
        CauseCode.LIST_CUT,
        CauseCode.PATTERN_CHANGED,
    ),
    Stage.PERSON: (CauseCode.ONLY_WARNED, CauseCode.WENT_ON, CauseCode.LOOKS_LIKE_FAILURE),
}
STAGE_OF: dict[CauseCode, Stage] = dict.fromkeys(CauseCode, Stage.RULES) | {
    code: stage for stage, codes in _STAGES.items() for code in codes
}
"""Where each cause lies; most in the rules."""
ORDER = {code: place for place, code in enumerate(CauseCode)}


class Said(NamedTuple):
    """What is so, and the next step."""

    detail: str
    remedy: str
    begins_with_name: bool = False


def cause(code: CauseCode, said: Said, layer: Layer | None = None, rule: RuleReference | None = None) -> Cause:
    """A cause in words."""
    detail = as_sentence(said.detail)
    if said.begins_with_name:
        detail = said.detail[:1] + detail[1:]
    return Cause(code=code, stage=STAGE_OF[code], layer=layer, detail=detail, remedy=said.remedy, rule=rule)


def about(code: CauseCode, rule: RuleReference, said: Said, layer: Layer | None = None) -> Cause:
    """A cause that is about a rule."""
    return cause(code, said, layer, RuleReference(**{name: getattr(rule, name) for name in RuleReference.model_fields}))


def said(caveat: Caveat) -> Said:
    """A caveat, as what is so."""
    return Said(caveat.detail, caveat.remedy)


def of_caveat(code: CauseCode, caveat: Caveat) -> Cause:
    """A caveat as a cause."""
    return cause(code, said(caveat), caveat.layer)


def with_remedies(one: Cause, remedies: Mapping[str, str]) -> Cause:
    """The cause with changes of the estate that mend it."""
    made = tuple(Remedy(key=key, sentence=sentence) for key, sentence in remedies.items())
    return one.model_copy(update={"remedies": made})


# --- delivery and enforcement ---


def never_joined(code: CauseCode) -> Said:
    """A machine that is known and never joined."""
    if code is CauseCode.NO_AGENT:
        return Said(
            "nothing of Portero runs on this device, so nothing that is assigned to it holds there",
            "Stop it where its traffic passes, at a gateway or in the browser's own management.",
        )
    return Said(
        "this machine is known and has never joined, so nothing of the estate reaches it",
        "Give it an enrolment code and let it join.",
    )


def silent(last_heard: datetime | None) -> Said:
    """A machine that is not heard of any more."""
    heard = f" since {moment(last_heard)}" if last_heard else ""
    return Said(
        f"it has not been heard of{heard}, so what it does now is not known",
        "See whether it is switched on and online, and whether the endpoint runs on it.",
    )


def not_delivered(state: RolloutState | None) -> Said:
    """A machine that does not hold its newest bundle."""
    since = f" since {moment(state.since)}" if state and state.since else ""
    if state is not None and state.state == "failed":
        return Said(
            f"applying its newest bundle failed{since}: {state.problem or 'it does not say why'}",
            "Mend what it names on the machine, then push.",
        )
    held = f"it holds revision {state.revision}" if state and state.revision is not None else "it holds no bundle yet"
    expected = (
        f"; by its own rhythm it should have it {_within(state.expected_in)}" if state and state.expected_in else ""
    )
    return Said(f"{held} and waits for a newer one{since}{expected}", "Push it now, or wait for its next check-in.")


def _within(seconds: float) -> str:
    minutes = round(seconds / 60)
    return f"in {counted(minutes, 'minute')}" if minutes else "within a minute"


def not_meant(layer: str, mode: LayerMode, group: str | None) -> Said:
    """A layer that is not meant to enforce here."""
    does = {LayerMode.OFF: "be off", LayerMode.OBSERVING: "only record"}[mode]
    by = f"by the layer modes of group {group}" if group else "by the settings of the estate"
    return Said(f"the {LAYER_WORDS[layer]} is meant to {does} here, {by}", enforce(layer, group) + ".")


def enforce(layer: str, group: str | None) -> str:
    """The change that lets a layer enforce."""
    return f"Let the {LAYER_WORDS[layer]} enforce {f'on {group}' if group else 'wherever no group says otherwise'}"


def other_browser(browser: str, managed: Sequence[str]) -> Said:
    """A site list that holds in other browsers of the machine."""
    return Said(
        f"the site list holds in {joined(managed)}; {browser} on this machine takes none",
        f"Let {browser} take managed policy, keep it from starting, or use indicators.",
    )


# --- rules that are there ---


def named(rule: RuleReference) -> str:
    """A rule with where it is: “category games of quiet-hours (on ships)”."""
    target = rule.target if isinstance(rule.target, str) else rule.target.device
    return f"“{rule.selector}” of {rule.ruleset} on {target}"


def aside(rule: RuleReference, reason: Aside, opens: str | None = None) -> Said:
    """A rule that does not count now."""
    when = f"; it opens {opens}" if opens else ""
    return Said(f"{aside_because(rule, reason)}{when}", _ASIDE_STEPS[reason], True)


_ASIDE_STEPS = {
    Aside.DRAFT: "Put the draft in force.",
    Aside.PAUSED: "Let the assignment go on.",
    Aside.NOT_STARTED: "Wait for its start, or let it start now.",
    Aside.ENDED: "Let the assignment last longer.",
    Aside.EXPIRED: "Let the rule last longer.",
    Aside.OTHER_PEOPLE: "Name this person, or let it be for everybody.",
    Aside.SCHEDULE: "Wait until it opens, or let it hold at all times.",
    Aside.OTHER_PLACE: "Let it hold wherever the machine is.",
    Aside.RESTARTED: "Put it in force again, or let it hold beyond restarts.",
}


def overridden(rule: RuleReference) -> Said:
    """A rule whose assignment turns all into records."""
    return Said(
        f"{named(rule)} matches, but its assignment {rule.assignment} only records",
        "Let the assignment do what its rules say.",
    )


def only_recorded(rule: RuleReference) -> Said:
    """A rule that only records."""
    return Said(f"{named(rule)} matches, and it only records", "Give the rule another action.")


def beaten(lost: LostRule) -> Said:
    """A rule that lost."""
    return Said(f"{named(lost)} matches and loses: {lost.why}", "Make it mandatory, or take back what beats it.")


def left_out(key: str, which: str) -> Said:
    """A program that a set is about and does not hold."""
    why = "excludes it" if which == "exclude" else "is about other versions of it"
    return Said(f"the application set {key} {why}", f"Widen the set {key}.")


def held_back(rule: RuleReference, note: str) -> Said:
    """A program that came later than its set's assignment."""
    return Said(f"{named(rule)} matches. {note}", "Accept it there, or stop holding back what comes later.")


def not_in_group(rule: RuleReference, groups: Sequence[str], unit: str | None) -> Said:
    """A rule of groups that the machine is not in."""
    outside = f"; it is outside the unit {unit}" if unit else ""
    return Said(
        f"{named(rule)} would do it, and this machine is not in {joined(list(groups), 'or')}{outside}",
        "Assign the ruleset to a group that holds this machine.",
    )


# --- rules that are not there ---


def service_uncarried(service: str) -> Said:
    """A service that was declined, and no rule that carries it out."""
    return Said(
        f"the service {service} is declined, and no rule on this machine carries that out",
        "Assign a ruleset with a rule for declined services, or for this one.",
    )


def only_other_hosts(host: str, other: str) -> Said:
    """Another host of the same service or domain is stopped."""
    return Said(
        f"{other} is stopped here, and {host} beside it is not", f"Add {host}, or name the whole domain or service."
    )


def other_category(explanation: Explanation, stopped: Sequence[str], is_unknown: bool) -> Said:
    """A host in other categories than those that are stopped."""
    names = [TAXONOMY.categories[key].name for key in explanation.categories if key in TAXONOMY.categories]
    what = "in no category" if is_unknown else f"in {joined(names)}"
    by = f", by the entry for {explanation.category_entry}" if explanation.category_entry else ""
    others = joined([TAXONOMY.categories[key].name for key in stopped[:4]], "or")
    return Said(
        f"{explanation.host} is {what}{by}, and not in {others}, which this machine stops",
        "Correct its category, or name the host.",
    )


def re_pointed(revision: int, sentence: str) -> Said:
    """The revision that changed it."""
    return Said(
        f"this was otherwise until revision {revision}: {sentence}", f"Look at revision {revision}, or undo it."
    )


def no_rule(expected: Verdict) -> Said:
    """Nothing names it."""
    return Said(f"no rule on this machine {VERBS[Action(expected.value)]} it", "Add a rule for it.")


# --- what stops it, what people do and see ---


def older_rules(rule: RuleReference) -> Said:
    """A rule of an older bundle."""
    return Said(
        f"{named(rule)} stopped it when the machine last fetched its bundle, and does so no more in the estate",
        "Push it now, or wait for its next check-in.",
    )


def stopped_by(layer: LayerVerdict) -> Said:
    """The rule that stops it."""
    return Said(layer.why, "Exempt it here, or change the rule.", True)


def only_warned(rule: RuleReference | None, went_on: str | None) -> Said:
    """A warning, past which people may go."""
    went = f"; {went_on}" if went_on else ""
    who = named(rule) if rule else "a rule"
    return Said(f"{who} only warns, and whoever is warned may go on{went}", "Let it block.")


_CHANGES = {
    "put-in-force": "Put {} in force",
    "resume": "Let {} go on",
    "start-now": "Let {} start now",
    "without-end": "Let {} last without an end",
    "for-everybody": "Let {} be for everybody",
    "always": "Let {} hold at all times",
    "anywhere": "Let {} hold on-site and off-site",
    "beyond-restarts": "Let {} hold beyond restarts",
    "as-written": "Let {} do what its rules say",
    "make-mandatory": "Make {} mandatory",
    "assign-here": "Assign what {} assigns to this machine too",
    "stop-holding-back": "Let {} hold back nothing",
    "block": "Block {}",
    "warn": "Warn of {}",
    "allow": "Allow {}",
}


def change(key: str, what: str) -> str:
    """What a remedy changes."""
    return _CHANGES[key].format(what)


def moment(at: datetime) -> str:
    """A moment in UTC."""
    return f"{at.astimezone(UTC):%Y-%m-%d %H:%M} UTC"


# --- the answer ---


_BECOMES = {Verdict.ALLOW: "It is let through", Verdict.WARN: "It is warned of", Verdict.BLOCK: "It is stopped"}


_WILL_BE = {
    Verdict.ALLOW: "it will be let through",
    Verdict.WARN: "it will be warned of",
    Verdict.BLOCK: "it will be stopped",
}


def answer(found: Verdict, meant: Verdict, expected: Verdict, first: Cause | None, others: int) -> str:
    """The whole answer in a sentence: what becomes of it, what the estate means, what was expected, and the cause."""
    becomes = {Verdict.ALLOW: "It is let through", Verdict.WARN: "It is warned of", Verdict.BLOCK: "It is stopped"}[
        found
    ]
    if found is expected:
        later = f"; with its newest bundle {_WILL_BE[meant]}" if meant is not expected else ""
        return f"{becomes}, as expected{later}."
    if first is None:
        return f"{becomes}, and nothing was found that keeps it from being otherwise."
    more = f" {counted(others, 'more thing')} to look at." if others else ""
    return f"{becomes}, because {_inner(first.detail)}.{more}"


def _inner(sentence: str) -> str:
    words = sentence.rstrip(".")
    # what begins with a name keeps its capital
    return words if words[:2].isupper() or words[:1] in "“" else words[:1].lower() + words[1:]


def went_on(at: datetime) -> str:
    """When somebody went on past a warning."""
    return f"somebody did so here on {moment(at)}"


def said_by(found: HostLookup) -> str | None:
    """By what a host has its categories."""
    if found.correction is not None:
        return f"by a correction{f' of {found.correction.at:%Y-%m-%d}' if found.correction.at else ''}"
    told = [f"{one.name} since {one.since}" for one in found.feeds if one.counts]
    return f"as told by {joined(told)}" if told else None


def clear(stage: Stage, explanation: Explanation, state: RolloutState | None, by_whom: Callable[[], str | None]) -> str:
    """What is so at a stage where nothing is in the way."""
    if stage is Stage.DELIVERY:
        held = f" of revision {state.revision}" if state and state.revision is not None else ""
        if state is not None and state.state != "current":
            return as_sentence(not_delivered(state).detail)
        return f"It holds its newest bundle{held}; groups are worked out with each change, so none waits."
    if stage is Stage.CONTENT and explanation.host:
        names = [TAXONOMY.categories[key].name for key in explanation.categories if key in TAXONOMY.categories]
        by = f", by the entry for {explanation.category_entry}" if explanation.category_entry else ""
        told = by_whom()
        return f"{explanation.host} is in {joined(names)}{by}{f', {told}' if told else ''}."
    if stage is Stage.RULES:
        return " ".join(layer.why for layer in explanation.intended.layers if layer.winner) or "No rule decides it."
    return _CLEAR[stage]


_CLEAR = {
    Stage.ENFORCEMENT: "The layers that have a say enforce.",
    Stage.CONTENT: "It is told by what is known of the program.",
    Stage.REACH: "The rules see all that they look at.",
    Stage.PERSON: "Nobody can go on past it, and it shows for what it is.",
}
