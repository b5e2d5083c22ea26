"""The web taxonomy, and what is known of hosts."""

from __future__ import annotations

from portero.client.connection import Part
from portero.core.nouns.lookup import HostLookup
from portero.core.nouns.taxonomy import Taxonomy


class Categories(Part):
    """Web categories."""

    def taxonomy(self) -> Taxonomy:
        """The web taxonomy."""
        return self.connection.get("/taxonomy", Taxonomy)

    def look_up(self, url: str) -> HostLookup:
        """All that is known of a host or URL. Invalid."""
        return self.connection.get("/categories/lookup", HostLookup, url=url)
