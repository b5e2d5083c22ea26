"""What rulesets read like: in a sentence, and rule by rule, to be searched however many there are."""

from __future__ import annotations

from collections.abc import Sequence

from portero.core import sentences
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset


class RulesetTexts:
    """What rulesets read like is kept for as long as they are the same."""

    def __init__(self) -> None:
        self._sentences: dict[str, tuple[Ruleset, str]] = {}
        self._rules: dict[str, tuple[tuple[Rule, ...], list[str]]] = {}

    def sentence(self, ruleset: Ruleset) -> str:
        """What a ruleset does, in words."""
        had = self._sentences.get(ruleset.key)
        if had is None or had[0] is not ruleset:
            had = self._sentences[ruleset.key] = (ruleset, sentences.ruleset_sentence(ruleset))
        return had[1]

    def rules(self, ruleset: Ruleset) -> list[str]:
        """What each rule of a ruleset is found by."""
        had = self._rules.get(ruleset.key)
        if had is None or had[0] is not ruleset.rules:
            texts = [f"{rule.selector} {rule.name or ''} {rule.note or ''}".casefold() for rule in ruleset.rules]
            had = self._rules[ruleset.key] = (ruleset.rules, texts)
        return had[1]

    def numbers(self, ruleset: Ruleset, q: str) -> Sequence[int]:
        """The places, from 0, of the rules of a ruleset in which a text stands."""
        wanted = q.casefold().strip()
        if not wanted:
            return range(len(ruleset.rules))
        return [place for place, text in enumerate(self.rules(ruleset)) if wanted in text]
