"""Causes that lie between the estate and the machine: delivery, enforcement, and how far its layers reach."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from portero.core.insight.whys.question import FoundCause, Mend, WhyAsked
from portero.core.nouns.caveat import Caveat, CaveatCode
from portero.core.nouns.device import Kind, Lifecycle
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import LAYERS, Layer, LayerMode, LayerName, LayerVersions
from portero.core.nouns.settings import GroupLayers
from portero.core.nouns.why import CauseCode
from portero.core.sentences import whys as words


def delivery(question: WhyAsked) -> Iterator[FoundCause]:
    """Whether the machine has what it should have."""
    machine, state = question.case.machine, question.rollout
    whole: dict[str, Any] = {"applied": question.policy, "current": True, "lifecycle": Lifecycle.ENROLLED}
    if machine.lifecycle is Lifecycle.INVITED:
        agentless = question.facts.kind in (Kind.PHONE, Kind.TABLET, Kind.OTHER)
        code = CauseCode.NO_AGENT if agentless else CauseCode.NEVER_JOINED
        yield _otherwise(question, code, words.never_joined(code), **whole)
        return
    if machine.lifecycle is Lifecycle.SILENT:
        yield _otherwise(question, CauseCode.SILENT, words.silent(question.last_heard), **whole)
    if machine.applied is None or not machine.current:
        failed = state is not None and state.state == "failed"
        code = CauseCode.FAILED_TO_APPLY if failed else CauseCode.NOT_DELIVERED
        yield _otherwise(question, code, words.not_delivered(state), **whole)


def enforcement(question: WhyAsked) -> Iterator[FoundCause]:
    """Whether the machine's layers do what they should."""
    for layer in _layers_of(question):
        meant = LayerMode(question.policy.bundle.layers[layer])
        if meant is not LayerMode.ENFORCING:
            yield _not_meant(question, layer, meant)
    for caveat in question.explanation.effective.caveats:
        finder = _FINDERS.get(caveat.code)
        if finder is not None:
            yield finder(question, caveat)


def reach(question: WhyAsked) -> Iterator[FoundCause]:
    """Whether what the rules look at is seen where they count."""
    for caveat in question.explanation.effective.caveats:
        code = _OF_REACH.get(caveat.code)
        if code is not None:
            of_browser = caveat.code in (CaveatCode.LIST_TRUNCATED, CaveatCode.PATTERN_CHANGED)
            comes_to = question.in_no_browser if of_browser else question.intended
            yield FoundCause(words.of_caveat(code, caveat), comes_to=comes_to)


_OF_REACH = {
    CaveatCode.PATH_HIDDEN: CauseCode.PATH_HIDDEN,
    CaveatCode.CONTENT_HIDDEN: CauseCode.CONTENT_HIDDEN,
    CaveatCode.LIST_TRUNCATED: CauseCode.LIST_CUT,
    CaveatCode.PATTERN_CHANGED: CauseCode.PATTERN_CHANGED,
}


def _otherwise(question: WhyAsked, code: CauseCode, said: words.Said, **machine: Any) -> FoundCause:
    """A cause that is mended at the machine, with what it would then come to."""
    return FoundCause(words.cause(code, said), comes_to=lambda: question.verdict(**machine))


def _layers_of(question: WhyAsked) -> tuple[LayerName, ...]:
    """The layers that could have a say in the attempt."""
    return ("startup",) if question.visit is None else tuple(layer for layer in LAYERS if layer != "startup")


def _not_meant(question: WhyAsked, layer: LayerName, meant: LayerMode) -> FoundCause:
    by = question.estate.mode_given_by(layer, question.groups)
    is_group = by != "estate"
    code = CauseCode.LAYER_OFF_GROUP if is_group else CauseCode.LAYER_OFF_ESTATE
    if layer == "startup" and meant is LayerMode.OBSERVING:
        code = CauseCode.STARTUP_OBSERVES
    mend: Mend = _group_enforces(by, layer) if is_group else _estate_enforces(layer)
    cause = words.cause(code, words.not_meant(layer, meant, by if is_group else None), Layer(layer))
    cause = words.with_remedies(cause, {"enforce": words.enforce(layer, by if is_group else None)})
    return FoundCause(cause, {"enforce": mend}, lambda: question.on_enforcing(layer))


def _estate_enforces(layer: LayerName) -> Mend:
    def mended(estate: Estate) -> Estate:
        layers = estate.settings.layers.model_copy(update={layer: LayerMode.ENFORCING})
        return estate.replacing(settings=estate.settings.model_copy(update={"layers": layers}))

    return mended


def _group_enforces(group: str, layer: LayerName) -> Mend:
    def mended(estate: Estate) -> Estate:
        def other(modes: GroupLayers) -> GroupLayers:
            return modes.model_copy(update={layer: LayerMode.ENFORCING}) if modes.group == group else modes

        return estate.replacing(layer_modes=tuple(map(other, estate.layer_modes)))

    return mended


# --- the caveats of enforcement ---


def _layer_off(question: WhyAsked, caveat: Caveat) -> FoundCause:
    assert caveat.layer is not None
    layer = caveat.layer
    if layer is Layer.FILTER and question.case.machine.layers.filter is LayerMode.ENFORCING:
        code = CauseCode.BROWSER_NOT_COVERED
        return FoundCause(words.of_caveat(code, caveat), comes_to=question.intended)
    return FoundCause(
        words.of_caveat(CauseCode.LAYER_OFF_MACHINE, caveat), comes_to=lambda: question.on_enforcing(layer.value)
    )


def _unmanaged(question: WhyAsked, caveat: Caveat) -> FoundCause:
    machine, browser = question.case.machine, question.case.attempt.browser
    if machine.layers.browser in (LayerMode.OFF, LayerMode.OBSERVING):
        return _layer_off(question, caveat)
    others = [one.name for one in machine.browsers if one.managed]
    code = CauseCode.OTHER_BROWSER if others and browser else CauseCode.BROWSER_UNMANAGED
    said = words.other_browser(browser or "", others) if code is CauseCode.OTHER_BROWSER else words.said(caveat)
    return FoundCause(words.cause(code, said, Layer.BROWSER), comes_to=question.intended)


def _with_newer(code: CauseCode) -> Callable[[WhyAsked, Caveat], FoundCause]:
    def finder(question: WhyAsked, caveat: Caveat) -> FoundCause:
        newer: dict[str, Any] = {"layer_versions": LayerVersions(), "platform_version": None}
        if code is CauseCode.BROWSER_TOO_OLD:
            own = question.case.machine.browsers
            newer = {"browsers": tuple(one.model_copy(update={"version": None}) for one in own)}
        return FoundCause(words.of_caveat(code, caveat), comes_to=lambda: question.verdict(**newer))

    return finder


def _own_policy(question: WhyAsked, caveat: Caveat) -> FoundCause:
    browsers = tuple(one.model_copy(update={"policy": None}) for one in question.case.machine.browsers)
    cause = words.of_caveat(CauseCode.POLICY_OVERRIDDEN, caveat)
    return FoundCause(cause, comes_to=lambda: question.verdict(browsers=browsers))


def _told(code: CauseCode) -> Callable[[WhyAsked, Caveat], FoundCause]:
    """One that weakens what is done, whatever prediction says."""
    return lambda _question, caveat: FoundCause(words.of_caveat(code, caveat))


def _gateway(question: WhyAsked, caveat: Caveat) -> FoundCause:
    elsewhere: Mapping[str, Any] = {"addresses": ()}
    return FoundCause(words.of_caveat(CauseCode.GATEWAY, caveat), comes_to=lambda: question.verdict(**elsewhere))


def _right_clock(question: WhyAsked, caveat: Caveat) -> FoundCause:
    return FoundCause(words.of_caveat(CauseCode.CLOCK_OFF, caveat), comes_to=lambda: question.verdict(clock_ahead=None))


def _fact_missing(question: WhyAsked, caveat: Caveat) -> FoundCause:
    unsaid = caveat.layer is not None and question.case.machine.layers.mode(caveat.layer) is None
    code = CauseCode.LAYER_NOT_REPORTED if unsaid else CauseCode.FIELDS_MISSING
    return FoundCause(words.of_caveat(code, caveat))


_FINDERS: dict[CaveatCode, Callable[[WhyAsked, Caveat], FoundCause]] = {
    CaveatCode.FILTER_OFF: _layer_off,
    CaveatCode.FILTER_OBSERVING: _layer_off,
    CaveatCode.STARTUP_OFF: _layer_off,
    CaveatCode.STARTUP_OBSERVING: _layer_off,
    CaveatCode.LAYER_TOO_OLD: _with_newer(CauseCode.TOO_OLD),
    CaveatCode.PLATFORM_TOO_OLD: _with_newer(CauseCode.TOO_OLD),
    CaveatCode.BROWSER_TOO_OLD: _with_newer(CauseCode.BROWSER_TOO_OLD),
    CaveatCode.BROWSER_UNMANAGED: _unmanaged,
    CaveatCode.POLICY_UNWRITTEN: _own_policy,
    CaveatCode.POLICY_OVERRIDDEN: _own_policy,
    CaveatCode.TAMPERED: _own_policy,
    CaveatCode.RESTART_NEEDED: _told(CauseCode.RESTART_NEEDED),
    CaveatCode.PASSED_BY: _told(CauseCode.PASSED_BY),
    CaveatCode.TRUSTED_GATEWAY: _gateway,
    CaveatCode.CLOCK_OFF: _right_clock,
    CaveatCode.FACT_MISSING: _fact_missing,
}
