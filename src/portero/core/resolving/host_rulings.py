"""What a machine's filter rules of visits, remembered by host."""

from __future__ import annotations

from portero.core.matching.categories import CategoryIndex, Entry
from portero.core.matching.searches import searched
from portero.core.nouns.urls import Visit, address_of
from portero.core.nouns.verdict import LayerVerdict
from portero.core.resolving.deciding import Visited
from portero.core.resolving.explaining import categories_of
from portero.core.resolving.policy import Frame, Policy
from portero.core.resolving.telling import teller_of


class HostRulings:
    """What a policy's filter says of visits, remembered by host where no more than that counts: people come back."""

    MOST = 20_000

    def __init__(self, policy: Policy, index: CategoryIndex) -> None:
        self.policy, self.index = policy, index
        self._known: dict[tuple[str, Frame], tuple[Entry, LayerVerdict]] = {}
        self._teller = teller_of(policy)

    def of(
        self, visit: Visit, frame: Frame, page: bool = True, media_type: str | None = None
    ) -> tuple[Entry, LayerVerdict]:
        """The host's category entry, and what the rules say of the visit; without `page` only the host shows. The media
        type is known of what came back.
        """
        known = self._known.get((visit.host, frame)) if media_type is None else None
        if known is not None:
            return known
        entry = categories_of(self.policy, self.index, visit.host)
        found = searched(visit, self.policy.search_pages)
        visited = Visited(visit, entry.categories, address_of(visit.host), found, media_type)
        told = entry, self._teller.filter(frame, visited if page else visited.by_host())
        pages = self.policy.indicators.looks_at_pages(visit.host) or visit.host in self.policy.search_pages
        if media_type is None and not pages:
            if len(self._known) >= self.MOST:
                self._known.clear()
            self._known[visit.host, frame] = told
        return told
