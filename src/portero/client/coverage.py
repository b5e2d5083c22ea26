"""The coverage table."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.core.nouns.coverage import CoverageEntry, CoverageRow


class Coverage(Collection[CoverageRow, CoverageEntry, CoverageEntry]):
    """Rows, named `control/browser/platform`. Removing an edited one puts the shipped one back."""

    model: ClassVar = CoverageRow

    def put(self, changed: CoverageRow, *, version: int | None = None, reason: str | None = None) -> CoverageEntry:
        """Put a row into the table, in place of the one with the same name. ChangedMeanwhile."""
        # its name is three segments of an address, so it is told in the body alone
        return self.connection.put(self.noun.path, changed, CoverageEntry, version, reason=reason)
