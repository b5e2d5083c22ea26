"""The attempts that devices report."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from portero.client.connection import Part
from portero.core.nouns.activity import Activity


class ActivityPart(Part):
    """Reported attempts."""

    def list(self, *, limit: int | None = None, **filters: Any) -> Iterator[Activity]:
        """Reported attempts, newest first. Filters: device, host, program, verdict, user, reference, tests."""
        return self.connection.pages("/activity", Activity, limit, **filters)
