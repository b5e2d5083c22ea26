"""The coverage table."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.core.nouns.coverage import CoverageEntry, CoverageRow


class Coverage(Collection[CoverageRow, CoverageEntry, CoverageEntry]):
    """Rows, named `control/browser/platform`. Removing an edited one puts the shipped one back."""

    model: ClassVar = CoverageRow
