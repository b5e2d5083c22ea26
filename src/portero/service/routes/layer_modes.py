"""Layer modes by group, strongest group first; for each layer the strongest that names it counts."""

from __future__ import annotations

from portero.core.nouns.estate import NOUNS
from portero.core.nouns.settings import GroupLayers
from portero.service.routes.nouns import NounRoutes
from portero.service.state import Snapshot


def _listing(snapshot: Snapshot) -> list[GroupLayers]:
    rank = {key: place for place, key in enumerate(snapshot.estate.group_order)}
    return sorted(snapshot.estate.layer_modes, key=lambda modes: rank[modes.group])


ROUTES = NounRoutes(NOUNS["layer modes"], listing=_listing, is_made_by_post=False, is_paged=False)
