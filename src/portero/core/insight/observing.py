"""Observed runs: what machines saw of probes, beside what was predicted of them, summed up as predicted runs are."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping, Sequence
from datetime import datetime

from portero.core.insight.predicting import FEW, Alike, Failing, Numbered, counted_cause, predict
from portero.core.insight.whys import WhyAsked
from portero.core.nouns.action import Verdict
from portero.core.nouns.finding import Finding, FindingKind, Severity
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
    )


def observation(run: int, one: Numbered, alike: Alike, seen: Seen, at: datetime, bundle: str | None) -> Observation:
    """What a machine saw of a probe, beside what is predicted of the same attempt there at that moment."""
    device = alike.devices[0]
    predicted, why = None, ""
    try:
        explanation = asked_as_tried(one.probe, alike, seen).explanation
        predicted, why = predicted_of(explanation, seen)
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
        expected=one.probe.expect,
        at=at,
        bundle=bundle,
        seen=seen,
        predicted=predicted,
        predicted_why=why,
        agrees=agrees,
        sentence=words.beside(seen, predicted, why),
    )


def asked_as_tried(probe: Probe, alike: Alike, seen: Seen) -> WhyAsked:
    """What is predicted of, with all that it is made of. BadUrl."""
    tried = _as_tried(probe, seen)
    return alike.ask(tried.attempt(alike.devices[0].hostname), tried.expect)


def _as_tried(probe: Probe, seen: Seen) -> Probe:
    """The probe in the browser in which it was tried."""
    return probe.model_copy(update={"browser": seen.browser}) if probe.visit is not None else probe


def predicted_of(explanation: Explanation, seen: Seen) -> tuple[Verdict, str]:
    """What the machine would do, and why; of a visit that was tried without a browser what its filter would do."""
    effective = explanation.effective
    verdict, layers = effective.verdict, effective.layers
    if explanation.attempt.start is None and seen.browser is None:
        layers = tuple(one for one in layers if one.layer is Layer.FILTER)
        verdict = strictest(tuple(one.verdict for one in layers))
    caveats = [one.detail for one in effective.caveats] if explanation.gap != "none" else []
    settling = [one.why for one in layers if one.winner is not None and one.verdict is verdict]
    return verdict, " ".join(dict.fromkeys([*(settling or [one.why for one in layers]), *caveats]))


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
    (predicted,) = predict([one], asked)
    passed = disagreeing = 0
    failing: dict[Hashable, Failing] = {}
    for alike in asked:
        device = alike.devices[0]
        told = seen.get(device.id)
        disagreeing += told is not None and told.agrees is False
        cause = _cause(one, alike, told)
        if cause is None:
            passed += 1
        else:
            failing.setdefault((cause.code, cause.remedy), Failing(cause, [])).devices.append(device)
    found = [counted_cause(*each) for each in sorted(failing.values(), key=lambda each: -len(each.devices))]
    result = predicted.result.model_copy(
        update={
            "devices": len(asked),
            "passed": passed,
            "disagreeing": disagreeing,
            "causes": tuple(each.cause for each in found),
        }
    )
    return result.model_copy(update={"sentence": words.result(result)}), found


def _cause(one: Numbered, alike: Alike, told: Observation | None) -> RunCause | None:
    """Why a machine did not see what is expected; None where it did."""
    if told is None:
        return _plain("no-answer", words.NO_ANSWER, "See when it was last heard of, and ask again.")
    seen = told.seen
    if seen.verdict is None:
        return _plain("not-tried", words.seen(seen), "Try it on a machine that can, or change the probe.")
    if seen.verdict is one.probe.expect:
        if one.probe.layer is not None and seen.layer is not one.probe.layer:
            return _plain("other-layer", told.sentence, f"See what the {one.probe.layer} says of it.")
        return None
    if told.agrees is False:
        return _plain("disagreement", told.sentence, "Take the case along: it is decided otherwise there than here.")
    (predicted,) = predict([one._replace(probe=_as_tried(one.probe, seen))], [alike])
    return predicted.failing[0].cause if predicted.failing else _plain("disagreement", told.sentence, "Ask again.")


def _plain(code: str, detail: str, remedy: str) -> RunCause:
    return RunCause.model_validate({"code": code, "devices": 0, "detail": detail, "remedy": remedy})
