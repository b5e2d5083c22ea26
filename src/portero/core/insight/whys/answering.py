"""The answer: every cause in its place, and which of them it is, by what would become of it without each."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

from pydantic import ValidationError

from portero.core.insight.whys.at_the_machine import delivery, enforcement, reach
from portero.core.insight.whys.in_the_rules import person, rules, stopping
from portero.core.insight.whys.question import FoundCause, Mend, WhyAsked
from portero.core.nouns.caveat import CaveatCode
from portero.core.nouns.estate import Estate
from portero.core.nouns.why import Cause, CauseCode, Stage, StageAnswer, Why
from portero.core.sentences import whys as words


def cause_of(question: WhyAsked) -> Cause | None:
    """Which cause it is that an attempt does not come to what was expected, in short: no change of the estate is tried.
    None where it does. BadUrl where its URL is none.
    """
    if question.found is question.expected:
        return None
    found = sorted(_all_found(question), key=_order)
    # those that decide go before those of the rules, as in `_first`; what would become of it is looked at no longer
    for one in sorted(found, key=lambda one: one.cause.stage is Stage.RULES):
        if one.cause.code not in _LAST and _decides(question, one):
            return one.cause
    causes = [one.cause for one in found]
    place = _first(causes)
    return causes[place] if place is not None else None


def _order(one: FoundCause) -> int:
    return words.ORDER[one.cause.code]


def why(question: WhyAsked) -> Why:
    """Why an attempt does, or does not, come to what was expected. BadUrl where its URL is none."""
    found = _found(question)
    causes = [one.cause.model_copy(update={"decisive": _decides(question, one)}) for one in found]
    holds = question.found is question.expected
    place = None if holds else _first(causes)
    if place is not None:
        causes[place] = causes[place].model_copy(update={"is_the_cause": True})
    first = causes[place] if place is not None else None
    stages = tuple(
        StageAnswer(
            stage=stage,
            sentence=words.clear(stage, question.explanation, question.rollout, question.said_by),
            causes=tuple(one for one in causes if one.stage is stage),
        )
        for stage in Stage
    )
    return Why(
        expected=question.expected,
        found=question.found,
        holds=holds,
        sentence=words.answer(question.found, question.intended(), question.expected, first, len(causes) - 1),
        cause=first.code if first else None,
        stages=stages,
        explanation=question.explanation,
    )


def _found(question: WhyAsked) -> list[FoundCause]:
    """The causes in their order, each with those of its remedies that the estate may take. Each remedy has a key of its
    own: the second “block” is “block-2”.
    """
    numbers: Counter[str] = Counter()
    found = []
    for one in sorted(_all_found(question), key=_order):
        numbers.update(list(one.mends))
        names = {key: key if numbers[key] == 1 else f"{key}-{numbers[key]}" for key in one.mends}
        fitting = {names[key]: mend for key, mend in one.mends.items() if _fits(question.estate, mend)}
        renamed = (remedy.model_copy(update={"key": names[remedy.key]}) for remedy in one.cause.remedies)
        remedies = tuple(remedy for remedy in renamed if remedy.key in fitting)
        found.append(FoundCause(one.cause.model_copy(update={"remedies": remedies}), fitting, one.comes_to))
    return found


def _fits(estate: Estate, mend: Mend) -> bool:
    try:
        return next(mend(estate).faults(), None) is None
    except ValidationError:
        return False


_EXPLAINING = (
    CauseCode.OTHER_CATEGORY,
    CauseCode.LEFT_OUT,
    CauseCode.SERVICE_UNCARRIED,
    CauseCode.ONLY_OTHER_HOSTS,
    CauseCode.RE_POINTED,
)
"""Causes that tell why there is no rule; which change would mend them is for people to say."""
_LAST = (CauseCode.NO_RULE, CauseCode.STOPPED_BY_RULE)
"""A rule for just this always mends it; it is the cause where nothing else is."""


def _first(causes: Sequence[Cause]) -> int | None:
    """The place of the cause: what alone mends it, else what explains it, else what is missing. A rule that only warns
    goes before those that it beats.
    """

    def rank(place: int) -> tuple[int, int]:
        one = causes[place]
        if one.decisive and one.code not in _LAST:
            return (1 if one.stage is Stage.RULES else 0), place
        return (2 if one.code in _EXPLAINING else 3 if one.code in _LAST else 4), place

    return min(range(len(causes)), key=rank, default=None)


def mended_by(question: WhyAsked, code: CauseCode, remedy: str) -> Estate:
    """The estate with a cause mended. KeyError where it has no such remedy."""
    for one in _found(question):
        if one.cause.code is code and remedy in one.mends:
            return one.mends[remedy](question.estate)
    raise KeyError(remedy)


def _all_found(question: WhyAsked) -> Iterator[FoundCause]:
    if question.found is question.expected:
        # what may keep it from holding, though it should
        yield from (one for one in enforcement(question) if one.comes_to is None)
    else:
        yield from delivery(question)
        # what weakens a block says nothing of why something is blocked
        yield from (one for one in enforcement(question) if question.is_looser or one.comes_to is not None)
        yield from _content(question)
        yield from reach(question)
        yield from rules(question)
        if not question.is_looser:
            yield from stopping(question)
    yield from person(question)


def _content(question: WhyAsked) -> Iterator[FoundCause]:
    for caveat in question.explanation.effective.caveats:
        if caveat.code is CaveatCode.STALE_INDEX:
            cause = words.of_caveat(CauseCode.STALE_INDEX, caveat)
            yield FoundCause(cause, comes_to=lambda: question.verdict(index_current=True, has_index=True))


def _decides(question: WhyAsked, one: FoundCause) -> bool:
    """Whether it would come to what was expected with just this mended."""
    if question.found is question.expected:
        return False
    if one.comes_to is not None:
        return one.comes_to() is question.expected
    if question.in_short:
        # what there is to mend is taken at its word
        return bool(one.mends)
    return any(question.under(mend(question.estate)) is question.expected for mend in one.mends.values())
