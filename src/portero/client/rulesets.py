"""Rulesets: named lists of rules."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.core.nouns.quick_rule import QuickRules, QuickRulesMade
from portero.core.nouns.ruleset import Ruleset, RulesetState, RulesetSummary


class Rulesets(Collection[Ruleset, RulesetState, RulesetSummary]):
    """Rulesets. Lists of them count their rules; one alone has them."""

    model: ClassVar = Ruleset

    def make_quick_rules(self, asked: QuickRules, *, reason: str | None = None) -> QuickRulesMade:
        """Say something of some things, somewhere, in few words. Invalid where a word means nothing, or too much."""
        return self.connection.post("/quick-rules", asked, QuickRulesMade, reason=reason)
