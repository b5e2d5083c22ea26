"""Rulesets: named lists of rules."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.core.nouns.ruleset import Ruleset, RulesetState, RulesetSummary


class Rulesets(Collection[Ruleset, RulesetState, RulesetSummary]):
    """Rulesets. Lists of them count their rules; one alone has them."""

    model: ClassVar = Ruleset
