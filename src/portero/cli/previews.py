"""What a change would do, as a terminal shows it."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from portero.cli import output
from portero.core import wording
from portero.core.nouns.finding import Finding
from portero.core.nouns.preview import Effect, Preview, VerdictChange

MOST_CHANGES, MOST_ROWS = 12, 25

_EFFECTS = {
    Effect.STOPPED: "newly stopped",
    Effect.WARNED: "newly warned of",
    Effect.SOFTENED: "softened",
    Effect.RELEASED: "released",
    Effect.RECORDED: "newly recorded",
    Effect.UNRECORDED: "recorded no more",
}


def tell_preview(preview: Preview) -> None:
    """Say what the change would do: machines, verdicts, findings, where it will not hold, when it has taken hold."""
    if not preview.changes:
        output.say("It changes nothing.")
        return
    output.say(wording.as_sentence(preview.summary))
    if len(preview.changes) > 1:
        for sentence in preview.sentences[:MOST_CHANGES]:
            output.say(wording.as_sentence(sentence), indent=2)
        if len(preview.sentences) > MOST_CHANGES:
            output.say(f"and {len(preview.sentences) - MOST_CHANGES} more; --json lists them all.", indent=2)
    _tell_numbers(preview)
    tell_verdicts(preview.verdicts)
    for loss in preview.losses:
        output.say(loss)
    _tell_findings("It brings", preview.appearing)
    _tell_findings("It settles", preview.settled)
    if preview.hindrances:
        output.say("It will not hold everywhere:")
    for hindrance in preview.hindrances:
        output.say(f"{hindrance.detail} {hindrance.remedy}", indent=2)
    if preview.devices:
        output.say(preview.taking_hold.sentence)
    if preview.gate:
        output.say("The gate will refuse it:")
    for failure in preview.gate[:MOST_CHANGES]:
        output.say(failure.sentence, indent=2)
    if preview.proof:
        output.say("What is to prove it:")
    for one in preview.proof[:MOST_CHANGES]:
        lacks = " The change would be refused." if one.refused else ""
        output.say(Text("").append(output.mark(one.expected)).append(f"  {one.tried}: {one.sentence}{lacks}"), indent=2)


def _tell_numbers(preview: Preview) -> None:
    classes = f" ({wording.counted(preview.classes, 'class', 'classes')})" if preview.classes else ""
    machines = f"{preview.devices:,} of {wording.counted(preview.fleet, 'machine')}"
    told = f"{machines} would get another bundle{classes}" if preview.devices else "no machine would get another bundle"
    output.say(wording.as_sentence(told))
    if preview.effects:
        counts = [f"{number:,} {_EFFECTS[effect]}" for effect, number in preview.effects.items()]
        output.say(wording.as_sentence(wording.joined(counts)))
    else:
        output.say("No verdict would be another.")


def tell_verdicts(verdicts: Sequence[VerdictChange]) -> None:
    """Say which verdicts become another one."""
    rows = [
        (
            _subject(verdict),
            output.mark(verdict.before),
            output.mark(verdict.after),
            str(verdict.devices),
            verdict.when or "always",
            verdict.by or "no rule",
        )
        for verdict in verdicts[:MOST_ROWS]
    ]
    if rows:
        output.print_table(("WHAT", "NOW", "THEN", "MACHINES", "WHEN", "BY"), rows, right=(3,))
    if len(verdicts) > MOST_ROWS:
        output.say(f"and {len(verdicts) - MOST_ROWS} more rows; --json lists them.", indent=2)


def _subject(verdict_change: VerdictChange) -> str:
    return wording.and_more(verdict_change.words, 0 if verdict_change.summed else verdict_change.alike)


def _tell_findings(verb: str, found: tuple[Finding, ...]) -> None:
    if found:
        output.say(f"{verb} {wording.counted(len(found), 'finding')}:")
    for finding in found[:MOST_CHANGES]:
        output.say(f"{finding.severity}: {finding.sentence}", indent=2)
