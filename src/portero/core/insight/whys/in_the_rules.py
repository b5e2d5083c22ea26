"""Causes that lie in what the estate says: rules that do not count, that others beat, that are elsewhere or missing."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import islice
from typing import Any

from portero.core.insight.merging import with_assignment
from portero.core.insight.quick_rules import write_quick_rules
from portero.core.insight.quick_words import QuickWordProblem
from portero.core.insight.whys.question import FoundCause, MatchingRule, WhyAsked
from portero.core.nouns.action import STOPPING, STRICTNESS, Action, Override, Verdict
from portero.core.nouns.assignment import DeviceTarget
from portero.core.nouns.caveat import CaveatCode
from portero.core.nouns.estate import Estate
from portero.core.nouns.membership import Condition
from portero.core.nouns.patterns import hosts_above
from portero.core.nouns.quick_rule import QuickRules
from portero.core.nouns.rule import Rule, registrable_domain
from portero.core.nouns.service import Decision
from portero.core.nouns.taxonomy import UNCATEGORISED
from portero.core.nouns.verdict import Aside, RuleReference, Rung
from portero.core.nouns.why import Cause, CauseCode
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.explaining import explain
from portero.core.resolving.policy import Policy
from portero.core.sentences import whys as words

MOST_ALIKE = 5
"""So many causes of one sort are told."""
MOST_EARLIER = 30
"""So many states before this one are looked at."""


def rules(question: WhyAsked) -> Iterator[FoundCause]:
    """Why the rules that would lead to what was expected do not, and which there should be."""
    yield from islice(_not_counting(question), MOST_ALIKE)
    yield from islice(_beaten(question), MOST_ALIKE)
    yield from _programs(question)
    if any(met.is_own for met in question.met_wanted()):
        return
    yield from islice(_elsewhere(question), MOST_ALIKE)
    if question.is_looser:
        yield from _missing(question)


# --- rules that are there and do not count ---


_ASIDE: dict[Aside, tuple[CauseCode, str, dict[str, Any]]] = {
    Aside.DRAFT: (CauseCode.DRAFT, "put-in-force", {"state": "active"}),
    Aside.PAUSED: (CauseCode.PAUSED, "resume", {"state": "active"}),
    Aside.NOT_STARTED: (CauseCode.NOT_STARTED, "start-now", {"starts": None}),
    Aside.ENDED: (CauseCode.ENDED, "without-end", {"ends": None, "owner": None}),
    Aside.OTHER_PEOPLE: (CauseCode.OTHER_PEOPLE, "for-everybody", {"people": None}),
    Aside.SCHEDULE: (CauseCode.OUTSIDE_SCHEDULE, "always", {"schedule": None}),
    Aside.OTHER_PLACE: (CauseCode.OTHER_PLACE, "anywhere", {"place": "anywhere"}),
    Aside.RESTARTED: (CauseCode.RESTARTED, "beyond-restarts", {"until_restart": False}),
}


def _not_counting(question: WhyAsked) -> Iterator[FoundCause]:
    """Rules of this machine that match and do not count now, or only record."""
    gates, at = _gates(question), question.case.attempt.at
    assert at is not None
    for met in question.met:
        wanted, named = met.named.action is question.action, met.named
        if not met.is_own or not (wanted or (named.action is Action.LOG and question.is_looser)):
            continue
        if named.action is Action.LOG:
            yield _only_recorded(question, met)
            continue
        reason = gates(met)
        if reason is Aside.EXPIRED:
            cause = words.about(CauseCode.ENDED, named, words.aside(named, reason))
            yield _with_other(cause, "without-end", named, valid_until=None)
        elif reason is not None:
            code, key, changed = _ASIDE[reason]
            opens = _opens(question, met) if reason is Aside.SCHEDULE else None
            cause = words.about(code, named, words.aside(named, reason, opens))
            yield _mended(cause, key, named.assignment, _of_assignment(named.assignment, **changed))


def _gates(question: WhyAsked) -> Callable[[MatchingRule], Aside | None]:
    """Says why a rule does not count now."""
    gates, situation = question.everywhere.gates, question.case.situation

    def aside(met: MatchingRule) -> Aside | None:
        reason = gates.aside(met.contender.assignment, situation)
        until = met.contender.until
        return Aside.EXPIRED if reason is None and until is not None and situation.at.timestamp() >= until else reason

    return aside


def _opens(question: WhyAsked, met: MatchingRule) -> str | None:
    """When its schedule opens next, in words."""
    schedule = question.assignment(met.named.assignment).schedule
    windows = question.policy.gates.windows.get(schedule or "")
    at = question.case.attempt.at
    if windows is None or at is None:
        return None
    opens = windows.next_change(at, question.case.machine.zone)
    return words.moment(opens) if opens is not None else None


def _only_recorded(question: WhyAsked, met: MatchingRule) -> FoundCause:
    owner, named = question.assignment(met.named.assignment), met.named
    if owner.action is Override.LOG:
        cause = words.about(CauseCode.OVERRIDDEN_TO_LOG, named, words.overridden(named))
        return _mended(cause, "as-written", owner.key, _of_assignment(owner.key, action=None))
    cause = words.about(CauseCode.ONLY_RECORDED, named, words.only_recorded(named))
    return _with_other(cause, question.action.value, named, action=question.action)


# --- rules that others beat ---


def _beaten(question: WhyAsked) -> Iterator[FoundCause]:
    for layer in question.explanation.intended.layers:
        for lost in layer.lost:
            if lost.action is question.action and lost.to is not None and lost.to.action is not lost.action:
                is_pattern = layer.layer == "browser" and lost.to.action is Action.ALLOW
                code = CauseCode.ALLOW_PATTERN if is_pattern else CauseCode.STRONGER_RULE
                cause = words.about(code, lost, words.beaten(lost), layer.layer)
                yield _mended(cause, "make-mandatory", lost.assignment, _of_assignment(lost.assignment, mandatory=True))
            elif lost.action is question.action and lost.rung is Rung.REPLACED:
                yield FoundCause(words.about(CauseCode.STRONGER_RULE, lost, words.beaten(lost), layer.layer))


# --- programs ---


def _programs(question: WhyAsked) -> Iterator[FoundCause]:
    """Sets that leave the program out, or hold it back."""
    program = question.case.attempt.start
    if program is None:
        return
    note = question.explanation.intended.layers[0].note or ""
    if "Left out" in note or question.is_looser:
        for key, which in _near_sets(question):
            yield FoundCause(words.cause(CauseCode.LEFT_OUT, words.left_out(key, which)))
    for met in question.met:
        owner = question.assignment(met.named.assignment)
        is_held = met.is_own and met.named.action in STOPPING and owner.hold_back is not None and "Held back" in note
        if is_held and question.is_looser:
            cause = words.about(CauseCode.HELD_BACK, met.named, words.held_back(met.named, note))
            yield _mended(cause, "stop-holding-back", owner.key, _without_hold_back(owner.key))


def _near_sets(question: WhyAsked) -> Iterator[tuple[str, str]]:
    """Application sets in force here that are about the program's product and do not hold it: which, and why not."""
    program = question.case.attempt.start
    product = (program.product or program.file or "").casefold() if program else ""
    for assignment in question.policy.bundle.assignments:
        for rule in assignment.rules if assignment.kind == "startup" else ():
            found = question.estate.application_set_by_key.get(rule.selector_value)
            if found is None or rule.selector_kind != "application_set" or rule.action != question.action.value:
                continue
            about = [one for one in found.include if (one.product or one.file or "").casefold() == product]
            out = [one for one in found.exclude if one.product is None or one.product.casefold() == product]
            holds = any(
                met.named.assignment == assignment.key and met.named.rule == rule.number for met in question.met
            )
            if about and not holds:
                yield found.key, "exclude" if out and all(one.version is None for one in about) else "version"


def _without_hold_back(key: str) -> Callable[[Estate], Estate]:
    return _of_assignment(key, hold_back=None, members=None, came=())


# --- rules elsewhere ---


_EVERYTHING = ("everything", "pattern *")


def _elsewhere(question: WhyAsked) -> Iterator[FoundCause]:
    """Rules of groups that the machine is not in; what stops everything there says nothing of this."""
    seen: set[str] = set()
    for met in question.met_wanted():
        owner = question.assignment(met.named.assignment)
        if met.named.selector in _EVERYTHING or owner.state != "active" or owner.key in seen or not owner.groups:
            continue
        seen.add(owner.key)
        group = next(iter(owner.groups))
        outside = _unit_outside(question, group)
        code = CauseCode.OUTSIDE_UNIT if outside else CauseCode.NOT_IN_GROUP
        cause = words.about(code, met.named, words.not_in_group(met.named, owner.groups, outside))
        yield _mended(cause, "assign-here", owner.key, _assigned_here(owner.key, question.names[-1]))


def _unit_outside(question: WhyAsked, group: str) -> str | None:
    """The unit that a group's rule asks for and the machine is not in."""
    found = next((one for one in question.estate.groups if one.key == group), None)
    own = f"{question.facts.unit or ''}/".casefold()
    for condition in found.members.all or () if found and found.members else ():
        if isinstance(condition, Condition) and condition.field == "unit":
            asked = str(condition.value)
            if not own.startswith(asked.casefold().rstrip("/") + "/"):
                return asked
    return None


def _assigned_here(key: str, hostname: str) -> Callable[[Estate], Estate]:
    def mended(estate: Estate) -> Estate:
        one = next(one for one in estate.assignments if one.key == key)
        return _of_assignment(key, to=(*one.to, DeviceTarget(device=hostname)))(estate)

    return mended


# --- rules that are missing ---


def _missing(question: WhyAsked) -> Iterator[FoundCause]:
    """What is near, where no rule on this machine leads to what was expected; and the rule that would."""
    if question.visit is not None:
        yield from _of_service(question)
        if not question.in_short:
            yield from _of_siblings(question)
        yield from _of_category(question)
    if not question.in_short:
        yield from _re_pointed(question)
    cause = words.cause(CauseCode.NO_RULE, words.no_rule(question.expected))
    yield _with_rule(question, cause, question.action)


def _of_service(question: WhyAsked) -> Iterator[FoundCause]:
    assert question.visit is not None
    above = set(hosts_above(question.visit.host))
    for service in question.estate.services:
        if service.decision is Decision.DECLINED and above & set(service.hosts):
            yield FoundCause(
                words.cause(CauseCode.SERVICE_UNCARRIED, words.service_uncarried(service.name or service.key))
            )


def _of_siblings(question: WhyAsked) -> Iterator[FoundCause]:
    """Other hosts of the same service or domain that a rule of this machine does stop."""
    assert question.visit is not None
    host = question.visit.host
    domain = registrable_domain(host) or host
    beside = {domain}
    for service in question.estate.services:
        if set(hosts_above(host)) & set(service.hosts):
            beside |= set(service.hosts)
    for assignment in question.policy.bundle.assignments:
        for rule in assignment.rules if assignment.kind == "indicator" else ():
            if rule.selector_kind != "host" or rule.action != question.action.value:
                continue
            other = rule.selector_value
            if other != host and (other in beside or any(above in beside for above in hosts_above(other))):
                yield FoundCause(words.cause(CauseCode.ONLY_OTHER_HOSTS, words.only_other_hosts(host, other)))
                return


def _of_category(question: WhyAsked) -> Iterator[FoundCause]:
    """The host is in other categories than those that are stopped here."""
    stopped = sorted(
        {
            key
            for key, contenders in question.policy.categories.items()
            if any(one.action == question.action for one in contenders)
        }
    )
    own = question.explanation.categories
    if stopped and not set(stopped) & set(own):
        said = words.other_category(question.explanation, stopped, own == (UNCATEGORISED,))
        yield FoundCause(words.cause(CauseCode.OTHER_CATEGORY, said))


def _re_pointed(question: WhyAsked) -> Iterator[FoundCause]:
    """The revision since which the estate no longer leads to what was expected."""
    for earlier in islice(question.earlier(), MOST_EARLIER):
        policy = Policy(compile_bundle(earlier.estate, question.groups, question.names), question.policy.device)
        if explain(policy, question.case).intended.verdict is question.expected:
            yield FoundCause(words.cause(CauseCode.RE_POINTED, words.re_pointed(earlier.revision, earlier.sentence)))
            return


def _with_rule(question: WhyAsked, cause: Cause, action: Action) -> FoundCause:
    """The cause with a rule for just this, on just this machine, as its remedy."""
    attempt, visit = question.case.attempt, question.visit
    program = attempt.start
    what = f"host:{visit.host}" if visit else f"program:{(program and (program.sha256 or program.product)) or ''}"
    if what == "program:" or action is Action.LOG or question.in_short:
        return FoundCause(cause)
    asked = QuickRules(action=action, what=(what,), on=(f"device:{question.names[-1]}",))

    def mended(estate: Estate) -> Estate:
        return write_quick_rules(asked, question.known._replace(estate=estate)).estate

    try:
        mended(question.estate)
    except QuickWordProblem:
        # a program of which no machine tells cannot be named in a word
        return FoundCause(cause)
    return _mended(cause, action.value, f"{what.partition(':')[2]} on {question.names[-1]}", mended)


# --- what stops it, where it should pass ---


def stopping(question: WhyAsked) -> Iterator[FoundCause]:
    """The rules that stop what was expected to pass."""
    intended = {layer.layer: layer for layer in question.explanation.intended.layers}
    for layer in question.explanation.effective.layers:
        if STRICTNESS[layer.verdict] <= STRICTNESS[question.expected]:
            continue
        winner, meant = layer.winner, intended.get(layer.layer)
        if winner is not None and (meant is None or meant.verdict is not layer.verdict):
            cause = words.about(CauseCode.OLDER_RULES, winner, words.older_rules(winner), layer.layer)
            yield FoundCause(cause, comes_to=question.intended)
        elif winner is not None:
            cause = words.about(CauseCode.STOPPED_BY_RULE, winner, words.stopped_by(layer), layer.layer)
            yield _with_rule(question, cause, question.action)


# --- what the person did, and sees ---


def person(question: WhyAsked) -> Iterator[FoundCause]:
    """Warnings that people go on past, and blocks that do not look like one."""
    if question.expected is Verdict.BLOCK and question.found is Verdict.WARN:
        winner = next(
            (one.winner for one in question.explanation.effective.layers if one.verdict is Verdict.WARN), None
        )
        went_on = question.went_on()
        code = CauseCode.WENT_ON if went_on else CauseCode.ONLY_WARNED
        cause = words.cause(code, words.only_warned(winner, went_on))
        yield _with_other(cause, "block", winner, action=Action.BLOCK) if winner else FoundCause(cause)
    for caveat in question.explanation.effective.caveats:
        if caveat.code is CaveatCode.NOTICE_HIDDEN and question.found is not Verdict.ALLOW:
            yield FoundCause(words.of_caveat(CauseCode.LOOKS_LIKE_FAILURE, caveat))


# --- mending ---


def _mended(cause: Cause, key: str, what: str, mend: Callable[[Estate], Estate]) -> FoundCause:
    return FoundCause(words.with_remedies(cause, {key: words.change(key, what)}), {key: mend})


def _of_assignment(key: str, **changed: Any) -> Callable[[Estate], Estate]:
    return lambda estate: with_assignment(estate, key, **changed)


def _with_other(cause: Cause, key: str, rule: RuleReference, **changed: Any) -> FoundCause:
    """The cause, mended by another rule in place of one that is written by hand."""
    if rule.feed or rule.address_list:
        return FoundCause(cause)

    def mended(estate: Estate) -> Estate:
        found = estate.ruleset_by_key[rule.ruleset]
        own = list(found.rules)
        own[rule.rule - 1] = Rule.model_validate({**own[rule.rule - 1].model_dump(exclude_none=True), **changed})
        other = found.model_copy(update={"rules": tuple(own)})
        return estate.replacing(rulesets=tuple(other if one is found else one for one in estate.rulesets))

    return _mended(cause, key, f"{rule.selector} of {rule.ruleset}", mended)
