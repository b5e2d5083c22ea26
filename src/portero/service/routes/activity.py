"""The attempts that devices reported."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request

from portero.core.nouns.action import Verdict
from portero.core.nouns.activity import Activity, ActivityCounts, Period, PeriodCount, TriedCount
from portero.core.nouns.page import Page
from portero.service.auditing import audited_router, make_act
from portero.service.keepers import Keepers
from portero.service.routes.common import Cursor, Limit, Signed, TheKeepers
from portero.store import activity, activity_counts
from portero.store.access import Principal
from portero.store.activity import ActivityFilter
from portero.store.activity_counts import CountFilter
from portero.store.moments import moment

router = audited_router("activity")
MOST_PERIODS = 400


@router.get("/activity", summary="List activity", operation_id="listActivity")
def list_activity(
    request: Request,
    who: Signed,
    keepers: TheKeepers,
    device: Annotated[str | None, Query(max_length=253, description="Id or hostname.")] = None,
    host: Annotated[str | None, Query(max_length=253, description="Part of the host.")] = None,
    program: Annotated[
        str | None, Query(max_length=255, description="Part of a program's product, file or path: starts only.")
    ] = None,
    verdict: Verdict | None = None,
    user: Annotated[str | None, Query(max_length=255, description="A person, as they are shown to you.")] = None,
    reference: Annotated[str | None, Query(max_length=20, description="The code on a notice.")] = None,
    tests: Annotated[bool, Query(description="With visits to test hosts.")] = False,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Page[Activity]:
    """The attempts that devices reported one by one (blocked, warned, logged), newest first. Who may not see names sees
    a pseudonym for each person, always the same one.
    """
    if user and who.sees_names:
        make_act(request, f"looked up {user}")
    id = keepers.fleet.device(device).id if device else None
    code = reference.strip().upper() if reference else None
    with keepers.store.reading() as connection:
        people = tuple(keepers.pseudonyms.meant(connection, user, who)) if user else None
        wanted = ActivityFilter(id, host, program, verdict.value if verdict else None, people, code, tests)
        found = activity.list_activity(connection, wanted, cursor, limit)
    return found.model_copy(update={"items": [_shown(one, keepers, who) for one in found.items]})


@router.get("/activity/counts", summary="Count activity", operation_id="countActivity")
def count_activity(
    _who: Signed,
    keepers: TheKeepers,
    per: Annotated[Period, Query(description="By the hour, or by the day (UTC).")] = "day",
    periods: Annotated[int, Query(ge=1, le=MOST_PERIODS, description="So many, the last one being now.")] = 14,
    host: Annotated[str | None, Query(max_length=253, description="Part of the host.")] = None,
    program: Annotated[str | None, Query(max_length=255, description="Part of a program: starts only.")] = None,
    verdict: Verdict | None = None,
    ruleset: Annotated[str | None, Query(max_length=64, description="Decided by a rule of this ruleset.")] = None,
) -> ActivityCounts:
    """How many attempts machines reported one by one, hour by hour or day by day; and what was tried most often."""
    length = activity_counts.HOUR if per == "hour" else activity_counts.DAY
    until = (int(keepers.now()) // length + 1) * length
    since = until - periods * length
    wanted = CountFilter(since, until, host, program, verdict.value if verdict else None, ruleset)
    with keepers.store.reading() as connection:
        found, most = activity_counts.counts(connection, per, wanted)
    items = tuple(
        PeriodCount(at=moment(float(at)), attempts=sum(found.get(at, {}).values()), verdicts=found.get(at, {}))
        for at in range(since, until, length)
    )
    told = tuple(TriedCount(tried=tried, is_program=program, attempts=number) for tried, program, number in most)
    return ActivityCounts(per=per, items=items, most=told)


def _shown(one: Activity, keepers: Keepers, who: Principal) -> Activity:
    return one.model_copy(update={"user": keepers.pseudonyms.shown(one.user, who)})
