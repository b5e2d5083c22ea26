"""Finding rules by what stands in them, however many there are."""

from __future__ import annotations

from collections.abc import Sequence

from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset


class Finder:
    """Searches the rules of rulesets; what they read like is kept for as long as they are the same."""

    def __init__(self) -> None:
        self._texts: dict[str, tuple[tuple[Rule, ...], list[str]]] = {}

    def texts(self, ruleset: Ruleset) -> list[str]:
        """What each rule of a ruleset is found by."""
        had = self._texts.get(ruleset.key)
        if had is None or had[0] is not ruleset.rules:
            texts = [f"{one.selector} {one.name or ''} {one.note or ''}".casefold() for one in ruleset.rules]
            had = self._texts[ruleset.key] = (ruleset.rules, texts)
        return had[1]

    def numbers(self, ruleset: Ruleset, q: str) -> Sequence[int]:
        """The places, from 0, of the rules of a ruleset in which a text stands."""
        wanted = q.casefold().strip()
        if not wanted:
            return range(len(ruleset.rules))
        return [place for place, text in enumerate(self.texts(ruleset)) if wanted in text]
