"""Observed runs: what machines saw of probes, beside what was predicted of them, summed up as predicted runs are."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping, Sequence
from datetime import datetime
from typing import NamedTuple

from portero.core.insight.predicting import FEW, Alike, Failing, Numbered, counted_cause, predict
from portero.core.insight.whys import WhyAsked
from portero.core.nouns.action import Verdict
from portero.core.nouns.finding import DeviceName, Finding, FindingKind, Severity
from portero.core.nouns.layer import Layer
from portero.core.nouns.observation import Observation, OrderedProbe, Seen
from portero.core.nouns.probe_set import Probe
from portero.core.nouns.run import ProbeResult, RunCause
from portero.core.nouns.urls import BadUrl
from portero.core.nouns.verdict import Explanation, strictest
from portero.core.sentences import observing as words


def ordered(number: int, probe: Probe) -> OrderedProbe:
    """A probe as a machine is asked to try it."""
    return OrderedProbe(
        number=number,
        visit=probe.visit,
        start=probe.start,
        user=probe.user,
        browser=probe.browser,
        window=probe.window,
        reached_by=probe.reached_by,
    )


def observation(run: int, one: Numbered, alike: Alike, seen: Seen, at: datetime, bundle: str | None) -> Observation:
    """What a machine saw of a probe, beside what is predicted of the same attempt there at that moment."""
    device = alike.devices[0]
    predicted, why, settled_by = None, "", tuple[str, ...]()
    try:
        predicted, why, settled_by = predicted_of(asked_as_tried(one.probe, alike, seen).explanation, seen)
    except BadUrl as problem:
        why = str(problem)
    agrees = None if seen.verdict is None or predicted is None else seen.verdict is predicted
    return Observation(
        run=run,
        device=device.id,
        hostname=device.hostname,
        set=one.set.key,
        number=one.number,
        tried=one.probe.tried,
        how=one.probe.how,
        expected=one.probe.expect,
        at=at,
        bundle=bundle,
        seen=seen,
        predicted=predicted,
        predicted_why=why,
        settled_by=settled_by,
        agrees=agrees,
        sentence=words.beside(seen, predicted, why),
    )


def asked_as_tried(probe: Probe, alike: Alike, seen: Seen) -> WhyAsked:
    """What is predicted of, with all that it is made of. BadUrl."""
    tried = _in_browser(probe, seen.browser)
    return alike.ask(tried.attempt(alike.devices[0].hostname), tried.expect)


def _in_browser(probe: Probe, browser: str | None) -> Probe:
    """The probe in the browser in which it was tried."""
    return probe.model_copy(update={"browser": browser}) if probe.visit is not None else probe


class Predicted(NamedTuple):
    """What a machine would do, why, and which assignments settle it."""

    verdict: Verdict
    why: str
    settled_by: tuple[str, ...]


def predicted_of(explanation: Explanation, seen: Seen) -> Predicted:
    """What the machine would do; of a visit that was tried without a browser what its filter would do."""
    effective = explanation.effective
    verdict, layers = effective.verdict, effective.layers
    if explanation.attempt.start is None and seen.browser is None:
        layers = tuple(one for one in layers if one.layer is Layer.FILTER)
        verdict = strictest(tuple(one.verdict for one in layers))
    caveats = [one.detail for one in effective.caveats] if explanation.gap != "none" else []
    settling = [one for one in layers if one.winner is not None and one.verdict is verdict]
    told = " ".join(dict.fromkeys([*(one.why for one in settling or layers), *caveats]))
    return Predicted(verdict, told, tuple(dict.fromkeys(one.winner.assignment for one in settling if one.winner)))


# --- to be settled ---


def disagreements(seen: Iterable[Observation]) -> list[Finding]:
    """Findings of what was seen otherwise than predicted, probe by probe; the newest first."""
    by_probe: dict[tuple[str, int], list[Observation]] = {}
    for one in seen:
        by_probe.setdefault((one.set, one.number), []).append(one)
    return [
        Finding(
            id=disagreement_id(key, number),
            kind=FindingKind.DISAGREEMENT,
            severity=Severity.HIGH,
            sentence=words.disagreement(found),
            detail=found[0].sentence,
            devices=len(found),
            examples=tuple(one.hostname for one in found[:FEW]),
            at=found[0].at,
        )
        for (key, number), found in by_probe.items()
    ]


def disagreement_id(key: str, number: int) -> str:
    """The id of the finding about a probe."""
    return f"{FindingKind.DISAGREEMENT}:{key}:{number}"


# --- summed up ---


def observed(
    one: Numbered, asked: Sequence[Alike], seen: Mapping[str, Observation]
) -> tuple[ProbeResult, list[Failing]]:
    """What a probe came to on the machines that were asked, by what those saw that answered: as a result of a run, and
    the machines behind each cause.
    """
    (meant,) = predict([one], asked, as_meant=True)
    passed = disagreeing = 0
    failing: dict[Hashable, Failing] = {}
    rightly: dict[str | None, list[Alike]] = {}
    """Those that saw what was predicted, and not what is expected, by the browser in which they did."""

    def fail(cause: RunCause, devices: Sequence[DeviceName]) -> None:
        failing.setdefault((cause.code, cause.remedy), Failing(cause, [])).devices.extend(devices)

    for alike in asked:
        told = seen.get(alike.devices[0].id)
        disagreeing += told is not None and told.agrees is False
        if told is not None and told.agrees and told.seen.verdict is not one.probe.expect:
            rightly.setdefault(told.seen.browser, []).append(alike)
        elif (cause := _own_cause(one.probe, told)) is not None:
            fail(cause, alike.devices)
        else:
            passed += 1
    for browser, machines in rightly.items():
        tried = one._replace(probe=_in_browser(one.probe, browser))
        for found in next(predict([tried], machines)).failing:
            fail(found.cause, found.devices)
    counted = [counted_cause(*found) for found in sorted(failing.values(), key=lambda each: -len(each.devices))]
    result = meant.result.model_copy(
        update={
            "devices": len(asked),
            "passed": passed,
            "disagreeing": disagreeing,
            "causes": tuple(each.cause for each in counted),
        }
    )
    return result.model_copy(update={"sentence": words.result(result)}), counted


def _own_cause(probe: Probe, told: Observation | None) -> RunCause | None:
    """Why a machine did not see what is expected, where that is not as was predicted; None where it did."""
    if told is None:
        return _plain("no-answer", words.NO_ANSWER, "See when it was last heard of, and ask again.")
    seen = told.seen
    if seen.verdict is None:
        return _plain("not-tried", words.seen(seen), "Try it on a machine that can, or change the probe.")
    if seen.verdict is not probe.expect:
        return _plain("disagreement", told.sentence, "Take the case along: it is decided otherwise there than here.")
    if probe.layer is not None and seen.layer is not probe.layer:
        return _plain("other-layer", told.sentence, f"See what the {probe.layer} says of it.")
    return None


def _plain(code: str, detail: str, remedy: str) -> RunCause:
    return RunCause.model_validate({"code": code, "devices": 0, "detail": detail, "remedy": remedy})
