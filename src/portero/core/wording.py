"""Words that all sentences are made of."""

from __future__ import annotations

from collections.abc import Sequence

from portero.core.nouns.action import Action

VERBS = {Action.BLOCK: "blocks", Action.WARN: "warns on", Action.ALLOW: "allows", Action.LOG: "only records"}
VERB_OF_MANY = {Action.BLOCK: "block", Action.WARN: "warn on", Action.ALLOW: "allow", Action.LOG: "only record"}
LAYER_WORDS = {"filter": "filter", "browser": "browser layer", "startup": "startup layer"}
"""How the layers are spoken of, by their names."""


def joined(words: Sequence[str], last: str = "and") -> str:
    """The words as people list them: “a, b and c”."""
    if len(words) <= 1:
        return "".join(words)
    return f"{', '.join(words[:-1])} {last} {words[-1]}"


def counted(number: int, noun: str, plural: str | None = None) -> str:
    """The number with its noun: “1 machine”, “1,240 machines”."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"


def and_more(words: str, more: int) -> str:
    """The words for one of several: “reef.example and 2,999 more”."""
    return f"{words} and {more:,} more" if more else words


def as_sentence(words: str) -> str:
    """The words with a capital in front, unless a URL, host or file stands there, and a stop behind."""
    first = words.partition(" ")[0].rstrip(".:,")
    begins = words[:1] if "." in first or "/" in first else words[:1].upper()
    return begins + words[1:] + ("" if words.endswith((".", "?", "!", ")")) else ".")


def on(ruleset: str, target: str | None) -> str:
    """A ruleset where it is put: “quiet-link on satellite”."""
    return f"{ruleset} on {target or 'the machine itself'}"


def newly_registered(days: int) -> str:
    """What counts as newly registered."""
    return f"registered less than {counted(days, 'day')} ago"
