"""The estate as one document."""

from __future__ import annotations

from portero.client.connection import Part
from portero.core.nouns.comparison import EstateChange
from portero.core.nouns.estate import Estate


class EstateDocument(Part):
    """The estate as one document."""

    def get(self) -> Estate:
        """All that administrators author."""
        return self.connection.get("/estate", Estate)

    def put(
        self, document: Estate, *, revision: int | None, keep_others: bool = False, reason: str | None = None
    ) -> EstateChange:
        """Make the estate what the document says, in one revision, as long as it is still at `revision` (None:
        whatever it is). ChangedMeanwhile, Invalid.
        """
        seen = "*" if revision is None else f'"r{revision}"'
        # only what the document names: what it leaves out is told from what it has empty
        body = document.model_dump(mode="json", exclude_none=True, exclude_unset=True)
        params = {"keep_others": keep_others or None, "reason": reason}
        headers = {"If-Match": seen}
        answer = self.connection.change("PUT", "/estate", json=body, headers=headers, params=params, timeout=120)
        return EstateChange.model_validate_json(answer.content)
