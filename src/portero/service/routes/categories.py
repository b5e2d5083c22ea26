"""The web taxonomy, and what is known of hosts."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from portero.core.nouns.lookup import HostLookup
from portero.core.nouns.taxonomy import Taxonomy
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.service.auditing import audited_router
from portero.service.routes.common import Signed, TheKeepers

router = audited_router("categories")


@router.get("/taxonomy", summary="The web taxonomy", operation_id="getTaxonomy")
def get_taxonomy(_who: Signed) -> Taxonomy:
    """Families of web categories, each with its definition and its reserved test host."""
    return TAXONOMY


@router.get("/categories/lookup", summary="Look a host up", operation_id="lookUp")
def look_up_host(
    _who: Signed,
    keepers: TheKeepers,
    url: Annotated[str, Query(min_length=1, max_length=8192, description="A host or a URL.")],
) -> HostLookup:
    """All that is known of a host or URL: its categories and who says so, where it was seen, which rules touch it."""
    return keepers.lookups.host(url)
