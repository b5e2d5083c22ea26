"""What machines saw, in words."""

from __future__ import annotations

from collections.abc import Sequence

from portero.core.nouns.action import Verdict
from portero.core.nouns.observation import Observation, Seen
from portero.core.nouns.run import ProbeResult
from portero.core.wording import as_sentence, counted

_SAW = {
    "page": "the page opened",
    "notice": "the notice was shown",
    "beside": "the page opened, as no notice can be shown in it",
    "refused": "the connection was refused, with no page to say why",
    "browser-page": "the browser said on a page of its own that it is blocked",
    "unanswered": "nothing answered",
    "started": "the program started",
    "not-started": "the program did not start",
}
_DOES = {Verdict.BLOCK: "Stopped", Verdict.WARN: "Warned of", Verdict.ALLOW: "Passed"}


def seen(told: Seen) -> str:
    """What a machine saw: “block by the filter: the notice was shown (K7QF-2MXB), in chromium.”"""
    if told.verdict is None:
        return as_sentence(told.problem or "it was not tried")
    by = f" by the {told.layer}" if told.layer else ""
    reference = f" ({told.reference})" if told.reference else ""
    browser = f", in {told.browser}" if told.browser else ""
    return f"{told.verdict}{by}: {_SAW.get(told.saw or '', 'it was tried')}{reference}{browser}."


def beside(told: Seen, predicted: Verdict | None, why: str) -> str:
    """What was seen beside what was predicted."""
    if told.verdict is None or predicted is None or told.verdict is predicted:
        return f"Observed {seen(told)}" if told.verdict is not None else seen(told)
    return f"Predicted {predicted}: {why} Observed {seen(told)}"


def disagreement(found: Sequence[Observation]) -> str:
    """What was seen otherwise than predicted, of one probe on some machines."""
    first = found[0]
    where = first.hostname if len(found) == 1 else counted(len(found), "machine")
    return (
        f"{first.tried} comes to {first.seen.verdict} on {where}, where {first.predicted} was predicted: probe"
        f" {first.number} of {first.set}, run {first.run}."
    )


NO_ANSWER = "It did not answer in time: it is off, busy, or was not told."


def result(told: ProbeResult) -> str:
    """What a probe came to where machines tried it: “Stopped on 14 of 16 machines; 1 did not answer.”"""
    if not told.devices:
        return "It counts on no machine that was asked."
    number = f"{told.passed:,} of {counted(told.devices, 'machine')}"
    if not told.failed:
        number = "the one machine" if told.devices == 1 else f"all {told.devices:,} machines"
    head = f"{_DOES[told.expected]} on {number}"
    odd = f"; {counted(told.disagreeing, 'machine')} otherwise than predicted" if told.disagreeing else ""
    silent = sum(cause.devices for cause in told.causes if cause.code == "no-answer")
    unheard = f"; {silent:,} did not answer" if silent else ""
    return f"{head}{unheard}{odd}."


def replayed(then: Observation, verdict: Verdict, why: str) -> str:
    """What a case comes to again: whether that is what was predicted, and what the machine saw."""
    reproduced = "as was predicted" if verdict is then.predicted else f"where {then.predicted} was predicted"
    if verdict is then.seen.verdict:
        return f"It comes to {verdict}, {reproduced}; the machine saw the same. {why}".strip()
    return f"It comes to {verdict}, {reproduced}; the machine saw {seen(then.seen)} {why}".strip()


def tally(machines: int, passed: int, disagreeing: int) -> str:
    """What a probe came to where it was tried last: “As expected on 14 of 16 machines.”"""
    on = "the one machine" if machines == 1 == passed else f"{passed:,} of {counted(machines, 'machine')}"
    odd = f"; {counted(disagreeing, 'machine')} otherwise than predicted" if disagreeing else ""
    return f"As expected on {on}{odd}."


def held_on(held: int, tried: int, machines: int) -> str:
    """On how many machines what an assignment says was seen to hold: “Held on 14 of 16 machines; on 1 it did not.”"""
    odd = tried - held
    otherwise = f"; on {odd:,} it did not" if odd else ""
    return f"Held on {held:,} of {counted(machines, 'machine')}{otherwise}."
