"""The estate's history."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from portero.client.connection import Part, segment
from portero.core.nouns.estate import Estate
from portero.core.nouns.revision import LastChange, Revision, RevisionComparison, ToldRevision


class Revisions(Part):
    """Every committed change of the estate."""

    def list(
        self,
        *,
        by: str | None = None,
        noun: str | None = None,
        key: str | None = None,
        q: str | None = None,
        limit: int | None = None,
    ) -> Iterator[Revision]:
        """Revisions with their changes, newest first: by somebody, about a noun or one object, with some words."""
        return self.connection.pages("/revisions", Revision, limit, by=by, noun=noun, key=key, q=q)

    def get(self, number: int) -> ToldRevision:
        """One revision, its changes in words and as differences of documents. NotFound."""
        return self.connection.get(f"/revisions/{number}", ToldRevision)

    def compare(self, before: int, after: int | None = None) -> RevisionComparison:
        """What differs between two revisions; without the second, to the newest. NotFound."""
        return self.connection.get("/revisions/compare", RevisionComparison, **{"from": before, "to": after})

    def estate(self, number: int) -> Estate:
        """The estate as it was at a revision. NotFound."""
        return self.connection.get(f"/revisions/{number}/estate", Estate)

    def restore(self, number: int, *, reason: str | None = None) -> Revision:
        """Make the estate what it was at a revision, as a new one. NotFound, Invalid, ChangedMeanwhile."""
        answer = self.connection.change("POST", f"/revisions/{number}/restore", params={"reason": reason})
        return Revision.model_validate_json(answer.content)

    def governing(self, device: str) -> Sequence[LastChange]:
        """Everything that governs a machine, with who last changed it; the latest first. NotFound."""
        return self.connection.get_list(f"/devices/{segment(device)}/governing", LastChange)
