"""Verdicts on attempts, with every reason."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query
from pydantic import BaseModel, Field

from portero.core.insight.check_batches import judge_value
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.verdict import Explanation, Unjudged
from portero.service.routes.common import Signed, TheKeepers

router = APIRouter(tags=["check"])
LeftAside = Annotated[bool, Query(description="With the rules that would match and do not count now.")]


@router.post("/check", summary="Check an attempt", operation_id="check")
def check(body: Attempt, _who: Signed, keepers: TheKeepers, left_aside: LeftAside = False) -> Explanation:
    """The verdict on a visit or a start: intended by the estate, effective on the machine, with every reason and
    caveat.
    """
    return keepers.checks.explain(body, left_aside)


class Batch(BaseModel):
    """Many attempts."""

    attempts: Annotated[list[dict[str, Any]], Field(max_length=1000)]


@router.post("/check/batch", summary="Check many attempts", operation_id="checkBatch")
def check_batch(body: Batch, _who: Signed, keepers: TheKeepers) -> list[Explanation | Unjudged]:
    """The verdicts on many attempts, in their order. One that cannot be judged has a problem in its place."""
    judge = keepers.checks.judging_many()
    return [judge_value(value, judge) for value in body.attempts]
