"""Rulesets: named lists of rules."""

from __future__ import annotations

import builtins
from collections.abc import Iterable
from typing import ClassVar

from portero.client.collection import Collection
from portero.client.connection import fields_of
from portero.core.nouns.quick_rule import QuickRules, QuickRulesMade
from portero.core.nouns.ruleset import Ruleset, RulesetState, RulesetSummary
from portero.core.nouns.site_trial import SiteTrial, TriedUrl


class Rulesets(Collection[Ruleset, RulesetState, RulesetSummary]):
    """Rulesets. Lists of them count their rules; one alone has them."""

    model: ClassVar = Ruleset

    def make_quick_rules(self, asked: QuickRules, *, reason: str | None = None) -> QuickRulesMade:
        """Say something of some things, somewhere, in few words. Invalid where a word means nothing, or too much."""
        return self.connection.post("/quick-rules", asked, QuickRulesMade, reason=reason)

    def switched(self, ruleset: Ruleset | RulesetState) -> Ruleset:
        """A ruleset of sites, begun the other way: open but these, or closed but these. Nothing is kept. Invalid."""
        return self.connection.consult(
            "/site-lists/switch", Ruleset.model_validate(fields_of(ruleset, Ruleset)), Ruleset
        )

    def try_sites(self, ruleset: Ruleset | RulesetState, urls: Iterable[str]) -> builtins.list[TriedUrl]:
        """What each family of browsers would make of some addresses under a ruleset of sites as it is given, saved or
        not. Invalid.
        """
        asked = SiteTrial(ruleset=Ruleset.model_validate(fields_of(ruleset, Ruleset)), urls=tuple(urls))
        answer = self.connection.ask("POST", "/site-lists/try", json=asked.model_dump(mode="json", exclude_none=True))
        return [TriedUrl.model_validate(one) for one in answer.json()]
