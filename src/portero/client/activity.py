"""The attempts that devices report."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from portero.client.connection import Part
from portero.core.nouns.activity import Activity, ActivityCounts, Period


class ActivityPart(Part):
    """Reported attempts."""

    def list(self, *, limit: int | None = None, **filters: Any) -> Iterator[Activity]:
        """Reported attempts, newest first. Filters: device, host, program, verdict, user, reference, tests."""
        return self.connection.pages("/activity", Activity, limit, **filters)

    def counts(
        self,
        per: Period = "day",
        *,
        periods: int = 14,
        host: str | None = None,
        program: str | None = None,
        verdict: str | None = None,
        ruleset: str | None = None,
    ) -> ActivityCounts:
        """How many attempts there were in each of the last hours or days (UTC), and what was tried most often."""
        asked = {"host": host, "program": program, "verdict": verdict, "ruleset": ruleset}
        return self.connection.get("/activity/counts", ActivityCounts, per=per, periods=periods, **asked)
