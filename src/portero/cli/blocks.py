"""What a machine will block."""

from __future__ import annotations

from collections.abc import Sequence

from portero.cli import output
from portero.cli.command import (
    DONE,
    NOT_AS_EXPECTED,
    Commands,
    Context,
    present,
)
from portero.core import sentences
from portero.core.nouns.verdict import Blocks, CategoryVerdict, Gap, LayerVerdict, RuleVerdict, Sometimes

_HEADINGS = {
    "indicator": "INDICATOR",
    "site": "SITE PATTERN",
    "startup": "PROGRAM",
    "category": "CONTENT",
}


def blocks(context: Context) -> int:
    with context.client() as portero:
        found = portero.devices.blocks(context.options.device)

    def tell() -> None:
        _tell_rows("CATEGORY", found.categories)
        output.say(sentences.undecided(found.undecided))
        for kind, heading in _HEADINGS.items():
            rows = [row for row in found.rules if row.kind == kind]
            if rows:
                output.say()
                _tell_rows(heading, rows)
        _tell_counts(found)
        _tell_sometimes(found.sometimes)
        for caveat in found.caveats:
            output.say(f"! {caveat.code}: {caveat.detail} {caveat.remedy}")

    present(context, found, tell)
    return NOT_AS_EXPECTED if found.gaps else DONE


def _tell_rows(heading: str, rows: Sequence[CategoryVerdict | RuleVerdict]) -> None:
    told = [
        (
            row.name,
            output.mark(_word(row.intended)),
            output.mark(_word(row.intended) if row.gap is Gap.NONE else row.effective.verdict.value),
            "" if row.gap is Gap.NONE else row.gap,
            _because(row.intended),
        )
        for row in rows
    ]
    output.print_table((heading, "INTENDED", "EFFECTIVE", "GAP", "BECAUSE OF"), told)


def _word(layer: LayerVerdict) -> str:
    return "log" if layer.verdict == "allow" and layer.logged and not layer.winner else layer.verdict.value


def _because(layer: LayerVerdict) -> str:
    if layer.winner:
        mandatory = ", mandatory" if layer.winner.mandatory else ""
        return f"{layer.winner.ruleset} on {sentences.target_words(layer.winner.target)}{mandatory}"
    if layer.logged:
        return f"recorded by {layer.logged[0].ruleset} on {sentences.target_words(layer.logged[0].target)}"
    return ""


def _tell_counts(found: Blocks) -> None:
    output.say()
    for count in found.counts:
        if count.kind != "category":
            output.say(count.sentence)


def _tell_sometimes(sometimes: Sequence[Sometimes]) -> None:
    if sometimes:
        output.say()
        rows = [(one.sentence, one.now) for one in sometimes]
        output.print_table(("ONLY SOMETIMES", "NOW"), rows)
        output.say()


def register(commands: Commands) -> None:
    """Add this family's commands."""
    block = commands.add(
        "blocks", blocks, "What a machine will block. Exits 3 where there is a gap.", "portero blocks eastquay-kiosk-01"
    )
    block.add_argument("device", metavar="DEVICE", help="hostname or id")
