"""Verdicts on attempts, with every reason."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

from fastapi import Query
from pydantic import BaseModel, Field

from portero.core.insight.check_batches import judge_value
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.verdict import BriefVerdict, Explanation, Unjudged
from portero.service.auditing import asks, audited_router
from portero.service.keepers import Keepers
from portero.service.pseudonyms import PREFIX
from portero.service.routes.common import Signed, TheKeepers
from portero.store.access import Principal

Judge = Callable[[Attempt], Explanation]

router = audited_router("check")
Brief = Annotated[bool, Query(description="By what each is decided alone, without the rules that lost.")]
LeftAside = Annotated[bool, Query(description="With the rules that would match and do not count now.")]


@router.post("/check", summary="Check an attempt", operation_id="check")
@asks
def check(body: Attempt, who: Signed, keepers: TheKeepers, left_aside: LeftAside = False) -> Explanation:
    """The verdict on a visit or a start: intended by the estate, effective on the machine, with every reason and
    caveat; and what was observed, where the machine has tried just this.
    """
    told = _as_seen(who, keepers, lambda attempt: keepers.checks.explain(attempt, left_aside))(body)
    observed = keepers.observations.last_of(keepers.fleet.device(body.device).id, body)
    return told.model_copy(update={"observed": observed})


def _as_seen(who: Principal, keepers: Keepers, judge: Judge) -> Judge:
    """Judges attempts of people as they are shown to somebody: a pseudonym is judged as the person, and stays one."""

    def judged(attempt: Attempt) -> Explanation:
        return as_written(judge(as_meant(who, keepers, attempt)), attempt)

    return judged


def as_meant(who: Principal, keepers: Keepers, attempt: Attempt) -> Attempt:
    """The attempt of the person that a pseudonym stands for, as it is shown to somebody."""
    if attempt.user is None or who.sees_names or not attempt.user.lower().startswith(PREFIX):
        return attempt
    with keepers.store.reading() as connection:
        meant = keepers.pseudonyms.meant(connection, attempt.user, who)
    return attempt.model_copy(update={"user": meant[0]}) if meant else attempt


def as_written(told: Explanation, attempt: Attempt) -> Explanation:
    """The answer under the name with which it was asked for."""
    return told.model_copy(update={"attempt": told.attempt.model_copy(update={"user": attempt.user})})


class Batch(BaseModel):
    """Many attempts."""

    attempts: Annotated[list[dict[str, Any]], Field(max_length=1000)]


@router.post("/check/batch", summary="Check many attempts", operation_id="checkBatch")
@asks
def check_batch(
    body: Batch, who: Signed, keepers: TheKeepers, brief: Brief = False
) -> list[Explanation | BriefVerdict | Unjudged]:
    """The verdicts on many attempts, in their order. One that cannot be judged has a problem in its place."""
    judge = _as_seen(who, keepers, keepers.checks.judging_many())
    if brief:
        return [judge_value(value, lambda one: BriefVerdict.of(judge(one))) for value in body.attempts]
    return [judge_value(value, judge) for value in body.attempts]
