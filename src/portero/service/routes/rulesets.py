"""Rulesets: told in words, their rules counted in lists."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query

from portero.core import sentences
from portero.core.nouns.estate import NOUNS
from portero.core.nouns.ruleset import Ruleset, RulesetState, RulesetSummary, Sentence
from portero.service.auditing import asks, audited_router
from portero.service.keepers import Keepers
from portero.service.routes.common import Signed
from portero.service.routes.nouns import NounRoutes, Sift, Tell
from portero.service.routes.uses import assignments_with
from portero.service.state import Snapshot

router = audited_router("rulesets")
_users = assignments_with("ruleset")


def _told(keepers: Keepers, snapshot: Snapshot, ruleset: Ruleset, version: int | None) -> dict[str, Any]:
    return {
        "key": ruleset.key,
        "name": ruleset.name or ruleset.key,
        "kind": ruleset.kind,
        "ground": ruleset.ground,
        "feed": ruleset.feed,
        "rule_count": len(ruleset.rules),
        "includes": ruleset.includes,
        "included": dict(ruleset.included),
        "sentence": keepers.texts.sentence(ruleset),
        "assignments": tuple(_users(snapshot.estate, ruleset.key)),
        "version": version or 0,
    }


def _telling(keepers: Keepers, snapshot: Snapshot) -> Tell:
    return lambda ruleset, version: RulesetSummary(**_told(keepers, snapshot, ruleset, version))


def _telling_alone(keepers: Keepers, snapshot: Snapshot) -> Tell:
    # not checked again: a long list would take its time
    return lambda ruleset, version: RulesetState.model_construct(
        **_told(keepers, snapshot, ruleset, version), rules=ruleset.own_rules
    )


def _sifting(
    ground: Annotated[str | None, Query(max_length=60, description="Of this ground only; “none” of none.")] = None,
) -> Sift:
    wanted = None if ground is None else ground.casefold()
    return lambda ruleset: wanted is None or (ruleset.ground or "none").casefold() == wanted


ROUTES = NounRoutes(NOUNS["ruleset"], telling=_telling, telling_alone=_telling_alone, users=_users, sifting=_sifting)


@router.post("/sentences/ruleset", summary="A ruleset in words", operation_id="describeRuleset")
@asks
def describe_ruleset(body: Ruleset, _who: Signed) -> Sentence:
    """What a ruleset, saved or not, does in words. Nothing is kept."""
    return Sentence(sentence=sentences.ruleset_sentence(body))
