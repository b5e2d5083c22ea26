"""Evidence: signed documents of runs."""

from __future__ import annotations

from collections.abc import Iterator

from portero.client.connection import LONG_SECONDS, Part
from portero.core.nouns.evidence import Evidence, EvidenceSummary, NeverObserved


class EvidencePart(Part):
    """Evidence that is kept, and what there is none of."""

    def create(self, run: int) -> EvidenceSummary:
        """Sign a run that has ended. NotFound; Invalid while it has not."""
        return self.connection.post(f"/runs/{run}/evidence", {}, EvidenceSummary)

    def list(self, limit: int | None = None) -> Iterator[EvidenceSummary]:
        """The evidence that is kept, the newest first."""
        return self.connection.pages("/evidence", EvidenceSummary, limit)

    def get(self, id: int) -> Evidence:
        """What a signed document says. NotFound."""
        return self.connection.get(f"/evidence/{id}", Evidence)

    def file(self, id: int) -> bytes:
        """The signed document itself, to be kept and checked. NotFound."""
        return self.connection.ask("GET", f"/evidence/{id}/file", timeout=LONG_SECONDS).content

    def page(self, id: int) -> bytes:
        """The page that is made of it, as HTML. NotFound."""
        return self.connection.ask("GET", f"/evidence/{id}/page", timeout=LONG_SECONDS).content

    def key(self) -> bytes:
        """The public key by which it is checked, as PEM."""
        return self.connection.ask("GET", "/evidence/key").content

    def never_observed(self, *, limit: int = 100) -> NeverObserved:
        """How many machines have really tried some probe, and the first of those that never have."""
        return self.connection.get("/evidence/never-observed", NeverObserved, limit=limit)
