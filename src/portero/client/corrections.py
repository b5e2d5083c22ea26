"""Corrections of the categories of hosts."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.client.connection import given
from portero.core.nouns.correction import Correction, CorrectionSummary


class Corrections(Collection[Correction, CorrectionSummary, CorrectionSummary]):
    """Corrections; lists by `feed`: only hosts that it names."""

    model: ClassVar = Correction

    def export(self, *, feed: str | None = None) -> str:
        """As CSV, for the keeper of a feed."""
        return self.connection.ask("GET", "/corrections.csv", params=given({"feed": feed})).text
