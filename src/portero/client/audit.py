"""The audit trail."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from portero.client.connection import LONG_SECONDS, Part
from portero.core.nouns.audit import AuditEntry
from portero.core.nouns.base import rfc3339


class AuditPart(Part):
    """What administrators did, and what was done about them. For keepers, and who may see names."""

    def list(
        self, *, by: str | None = None, act: str | None = None, since: datetime | None = None, limit: int | None = None
    ) -> Iterator[AuditEntry]:
        """Entries, newest first. NotAllowed."""
        moment = rfc3339(since) if since else None
        return self.connection.pages("/audit", AuditEntry, limit, by=by, act=act, since=moment)

    def lines(self, after: int = 0) -> bytes:
        """All entries after that number as JSON Lines, chained by their digests. NotAllowed."""
        return self.connection.ask("GET", "/audit/lines", params={"after": after}, timeout=LONG_SECONDS).content
