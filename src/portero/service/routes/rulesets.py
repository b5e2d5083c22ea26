"""Rulesets: told in words, their rules counted in lists."""

from __future__ import annotations

from typing import Any

from portero.core import sentences
from portero.core.nouns.estate import NOUNS
from portero.core.nouns.ruleset import Ruleset, RulesetState, RulesetSummary, Sentence
from portero.service.auditing import asks, audited_router
from portero.service.keepers import Keepers
from portero.service.routes.common import Signed
from portero.service.routes.nouns import NounRoutes, Tell
from portero.service.routes.uses import assignments_with
from portero.service.state import Snapshot

router = audited_router("rulesets")
_users = assignments_with("ruleset")


def _told(keepers: Keepers, snapshot: Snapshot, ruleset: Ruleset, version: int | None) -> dict[str, Any]:
    return {
        "key": ruleset.key,
        "name": ruleset.name or ruleset.key,
        "kind": ruleset.kind,
        "feed": ruleset.feed,
        "rule_count": len(ruleset.rules),
        "sentence": keepers.texts.sentence(ruleset),
        "assignments": tuple(_users(snapshot.estate, ruleset.key)),
        "version": version or 0,
    }


def _telling(keepers: Keepers, snapshot: Snapshot) -> Tell:
    return lambda ruleset, version: RulesetSummary(**_told(keepers, snapshot, ruleset, version))


def _telling_alone(keepers: Keepers, snapshot: Snapshot) -> Tell:
    # not checked again: a long list would take its time
    return lambda ruleset, version: RulesetState.model_construct(
        **_told(keepers, snapshot, ruleset, version), rules=ruleset.rules
    )


ROUTES = NounRoutes(NOUNS["ruleset"], telling=_telling, telling_alone=_telling_alone, users=_users)


@router.post("/sentences/ruleset", summary="A ruleset in words", operation_id="describeRuleset")
@asks
def describe_ruleset(body: Ruleset, _who: Signed) -> Sentence:
    """What a ruleset, saved or not, does in words. Nothing is kept."""
    return Sentence(sentence=sentences.ruleset_sentence(body))
